"""One request and what came back: the records that pass between a client and those who use it."""

from dataclasses import dataclass
from typing import Any, Protocol

from kettlefield.core.timeline import Trace


@dataclass(frozen=True, slots=True, kw_only=True)
class Ask:
    """What is asked of a model."""

    messages: tuple[dict[str, str], ...]
    sampling: dict[str, Any]  # as sent: temperature, seed, max_tokens ...
    is_chat: bool = True  # otherwise the one message is a plain text to continue


@dataclass(frozen=True, slots=True, kw_only=True)
class Exchange:
    """What came back; a fault leaves what had arrived by then in place."""

    ask: Ask
    asked_at: float  # seconds since the epoch, for the record only; durations come from the trace
    sent_s: float  # the monotonic clock when the request was written: lines up with other clocks of this host
    in_flight: int  # most requests under way at once while this one was, itself included
    text: str
    thinking: str
    trace: Trace
    finish_reason: str | None
    fault: str | None = None  # of the server, in words
    retry_after_s: float | None = None  # the server is too busy and says when to ask again
    echo: Any = None  # the closing events whole: some servers tell there the settings as they took them

    @property
    def cap_hit(self) -> bool:
        """Whether the token cap or the context ended the reply."""
        return self.finish_reason == "length"


class ChatClient(Protocol):
    """A client of one running server."""

    async def ask(self, ask: Ask) -> Exchange:
        """Ask and wait for the end of the reply; a server's failure is in the result, not raised."""
        ...

    async def close(self) -> None:
        """Let go of connections."""
        ...
