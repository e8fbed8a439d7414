"""What a server's protocol is to us: how a server that speaks it is started or attached to, and asked."""

from collections.abc import AsyncIterator, Awaitable, Callable, Mapping
from contextlib import asynccontextmanager
from typing import Protocol

import msgspec

from kettlefield.core.errors import InputError
from kettlefield.registry import Registry
from kettlefield.server.exchange import ChatClient
from kettlefield.server.process import Launch


class Talk(msgspec.Struct, frozen=True, kw_only=True):
    """How a server is spoken to."""

    reply_within_s: float
    served_model: str = "default"  # the model name put into requests
    headers: Mapping[str, str] = msgspec.field(default_factory=dict)  # of every request: a key


class Server(Protocol):
    """One server, started or attached to: it may not be ready yet."""

    url: str
    command: tuple[str, ...]  # as it was started; empty when attached to
    started_s: float  # the monotonic clock when it was started; 0 when attached to

    @property
    def pid(self) -> int | None:
        """Process id of the first process; None when attached to."""
        ...

    @property
    def is_alive(self) -> bool:
        """Whether it still runs, as far as we can know."""
        ...

    @property
    def client(self) -> ChatClient:
        """What asks it, once it is ready."""
        ...

    async def ready(self) -> float | None:
        """Seconds from its start until it can be asked; None when attached to.

        Raises
        ------
        ServerError
            It ends before, or is not ready in time.
        """
        ...

    async def describe(self) -> str:
        """What it says of itself, for the record."""
        ...

    def how_it_ended(self) -> str:
        """Its exit status or signal, in words."""
        ...

    def last_words(self) -> str:
        """The end of its log in one line, safe to show."""
        ...

    async def stop(self) -> None:
        """Let go of connections; stop it, and everything that it started, unless we only attached to it."""
        ...


class Backend(msgspec.Struct, frozen=True, kw_only=True):
    """One protocol; a module of this package or of a third party offers it as a global."""

    name: str  # as the plan's `protocol` names it
    start: Callable[[Launch, Talk], Awaitable[Server]]
    attach: Callable[[str, Launch, Talk], Awaitable[Server]] | None = None  # url; None: it must be started

    @asynccontextmanager
    async def open(self, launch: Launch, talk: Talk, url: str | None = None) -> AsyncIterator[Server]:
        """A server for as long as it is needed; whatever happens inside, it is let go of afterwards.

        Parameters
        ----------
        launch : Launch
            How it is started, and when it counts as ready.
        talk : Talk
            How it is spoken to.
        url : str, optional
            Of a running server to attach to; none: it is started.

        Raises
        ------
        InputError
            Its command cannot be carried out, or no server of this protocol can be attached to.
        ServerError
            It does not start.
        """
        if url is not None and self.attach is None:
            hint = "Give [server] command."
            raise InputError(f'a server that speaks "{self.name}" cannot be attached to', "[server] url", hint)
        attach = self.attach
        server = await (
            attach(url, launch, talk) if url is not None and attach is not None else self.start(launch, talk)
        )
        try:
            yield server
        finally:
            await server.stop()


BACKENDS: Registry[Backend] = Registry(Backend, package="kettlefield.server", group="kettlefield.servers")
