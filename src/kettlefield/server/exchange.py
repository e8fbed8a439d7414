"""One request and what came back: the records that pass between a client and those who use it."""

from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any, Protocol

import msgspec

from kettlefield.core.timing.timeline import Trace


class ToolCall(msgspec.Struct, frozen=True, kw_only=True):
    """A call of a function that a model was offered, as the server gives it."""

    id: str  # empty where the server gives none
    name: str
    arguments: str  # JSON, as far as the model wrote JSON


class Ask(msgspec.Struct, frozen=True, kw_only=True):
    """What is asked of a model."""

    messages: tuple[dict[str, Any], ...]
    sampling: dict[str, Any]  # as sent: temperature, seed, max_tokens ...
    is_chat: bool = True  # otherwise the one message is a plain text to continue
    tools: tuple[dict[str, Any], ...] = ()  # functions that the model may call, as the protocol describes them


class Exchange(msgspec.Struct, frozen=True, kw_only=True):
    """What came back; a fault leaves what had arrived by then in place."""

    ask: Ask
    asked_at: float  # seconds since the epoch, for the record only; durations come from the trace
    sent_s: float  # the monotonic clock when the request was written: lines up with other clocks of this host
    concurrency: int  # most requests under way at once while this one was, itself included
    text: str
    thinking: str
    trace: Trace
    finish_reason: str | None
    fault: str | None = None  # of the server, in words
    refused: bool = False  # the fault is an error that the server answered with: it did not break off or stay silent
    over_context: bool = False  # the server says that the prompt is longer than its context
    sent: bool = True  # the request was written; otherwise nothing was asked
    retry_after_s: float | None = None  # the server is too busy and says when to ask again
    tool_calls: tuple[ToolCall, ...] = ()
    echo: Any = None  # the closing events whole: some servers tell there the settings as they took them

    @property
    def cap_hit(self) -> bool:
        """Whether the token cap or the context ended the reply."""
        return self.finish_reason == "length"


class ChatClient(Protocol):
    """A client of one running server."""

    async def ask(self, ask: Ask, *, stream: bool = True) -> Exchange:
        """Ask and wait for the end of the reply; a server's failure is in the result, not raised.

        Without streaming nothing is stamped; servers that count no tokens in a stream count them there.
        """
        ...

    async def close(self) -> None:
        """Let go of connections."""
        ...


async def count_prompt(client: ChatClient, ask: Ask) -> Exchange:
    """The same prompt asked for one token and without streaming: there servers count what they do not in a stream."""
    return await client.ask(msgspec.structs.replace(ask, sampling={**ask.sampling, "max_tokens": 1}), stream=False)


class UnderWay:
    """Counts the requests that are under way: for each the most that there were at once."""

    def __init__(self) -> None:
        self._peaks: list[list[int]] = []

    @contextmanager
    def request(self) -> Iterator[list[int]]:
        """While one request is under way; the list's one entry is its peak so far, itself included."""
        peak = [0]
        self._peaks.append(peak)
        for other in self._peaks:
            other[0] = max(other[0], len(self._peaks))
        try:
            yield peak
        finally:
            self._peaks = [other for other in self._peaks if other is not peak]
