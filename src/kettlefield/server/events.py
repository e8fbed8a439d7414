"""The event stream of a server-sent-events response, parsed as it arrives."""

import codecs
from dataclasses import dataclass

MAX_LINE_CHARS = 8 * 2**20  # a server that never ends a line is cut off before it fills the memory


@dataclass(frozen=True, slots=True)
class Event:
    """One dispatched event."""

    kind: str
    data: str


class EventStream:
    """An incremental parser: bytes in whatever pieces they come, whole events out.

    Source
    ------
    WHATWG HTML Living Standard, section 9.2.6, "Interpreting an event stream": lines end in LF, CRLF or
    CR; a line that starts with a colon is a comment; one space after a field's colon is dropped; a blank
    line dispatches; what is unfinished when the stream ends is dropped.
    """

    def __init__(self) -> None:
        # "utf-8-sig" drops one leading byte order mark, as the standard asks
        self._decoder = codecs.getincrementaldecoder("utf-8-sig")(errors="replace")
        self._pending = ""
        self._after_cr = False
        self._kind = ""
        self._data: list[str] = []

    def feed(self, chunk: bytes) -> list[Event]:
        """Events completed by these bytes.

        Raises
        ------
        ValueError
            A line is longer than ``MAX_LINE_CHARS``.
        """
        text = self._decoder.decode(chunk)
        if self._after_cr and text:
            text = text.removeprefix("\n")
            self._after_cr = False
        if text.endswith("\r"):
            self._after_cr = True
        text = text.replace("\r\n", "\n").replace("\r", "\n")
        *lines, rest = text.split("\n")
        if lines:
            lines[0] = self._pending + lines[0]
            self._pending = rest
        else:
            self._pending += rest
        if len(self._pending) > MAX_LINE_CHARS:
            raise ValueError("the server sends a line that never ends")
        return [event for line in lines if (event := self._take(line)) is not None]

    def _take(self, line: str) -> Event | None:
        if line == "":
            event = Event(self._kind or "message", "\n".join(self._data)) if self._data else None
            self._kind, self._data = "", []
            return event
        name, _, value = line.partition(":")
        value = value.removeprefix(" ")
        if name == "data":
            self._data.append(value)
        elif name == "event":
            self._kind = value
        return None  # comments have an empty name; id, retry and unknown fields do not matter here
