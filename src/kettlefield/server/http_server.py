"""Servers that speak the widely served chat-completions JSON API over HTTP."""

from kettlefield.server.backend import Backend, Server, Talk
from kettlefield.server.exchange import ChatClient
from kettlefield.server.http_client import HttpClient
from kettlefield.server.process import Launch, ServerProcess, describe_server, start_server, wait_for_url


def _client(url: str, talk: Talk) -> HttpClient:
    return HttpClient(url, reply_within_s=talk.reply_within_s, model=talk.served_model, headers=dict(talk.headers))


class _Attached:
    """A server that somebody else runs."""

    command: tuple[str, ...] = ()
    started_s = 0.0
    pid = None
    is_alive = True

    def __init__(self, url: str, launch: Launch, talk: Talk) -> None:
        self.url, self._launch = url, launch
        self.client: ChatClient = _client(url, talk)

    async def ready(self) -> float | None:
        await wait_for_url(self.url, self._launch.ready_paths, self._launch.ready_within_s)
        return None

    async def describe(self) -> str:
        return await describe_server(self.url)

    def how_it_ended(self) -> str:
        return "runs elsewhere"

    def last_words(self) -> str:
        return "its log is elsewhere"

    async def stop(self) -> None:
        await self.client.close()


class _Started:
    """A server that we run."""

    def __init__(self, process: ServerProcess, talk: Talk) -> None:
        self._process = process
        self.url, self.command, self.started_s = process.url, process.command, process.started_s
        self.client: ChatClient = _client(process.url, talk)

    @property
    def pid(self) -> int | None:
        return self._process.pid

    @property
    def is_alive(self) -> bool:
        return self._process.is_alive

    async def ready(self) -> float | None:
        return await self._process.wait_ready()

    async def describe(self) -> str:
        return await describe_server(self.url)

    def how_it_ended(self) -> str:
        return self._process.how_it_ended()

    def last_words(self) -> str:
        return self._process.last_words()

    async def stop(self) -> None:
        await self.client.close()
        await self._process.stop()


async def _start(launch: Launch, talk: Talk) -> Server:
    return _Started(start_server(launch), talk)


async def _attach(url: str, launch: Launch, talk: Talk) -> Server:
    return _Attached(url, launch, talk)


HTTP = Backend(name="http", start=_start, attach=_attach)
