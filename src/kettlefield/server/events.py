"""Server-sent events: bytes stamped as the event loop hands them over, and parsed as they arrive.

The usual way - a task awaits each piece, parses it, awaits the next - lets every stream wait for the
parsing of the others: at 64 streams of 50 tokens/s its stamps lag more than a millisecond behind a bare
socket reader (benchmarks/stopwatch.py). Here a stream's pieces are stamped and laid aside as they come, and
parsed a little later.
"""

import asyncio
import codecs
import functools
import time
from typing import Any

import aiohttp
import msgspec
from aiohttp.client_proto import ResponseHandler

MAX_LINE_CHARS = 8 * 2**20  # a server that never ends a line is cut off before it fills the memory


class Event(msgspec.Struct, frozen=True):
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


class StampingHandler(ResponseHandler):
    """A connection's protocol that can watch one response's body."""

    _body: aiohttp.StreamReader | None = None
    _pieces: list[tuple[float, bytes]]
    _arrived_s = 0.0
    _collecting = False

    def data_received(self, data: bytes) -> None:
        """See ``asyncio.Protocol``."""
        self._arrived_s = time.perf_counter()
        super().data_received(data)
        # reading may resume a paused parser, which calls back here: what that feeds is collected by the outer call
        if self._body is not None and not self._collecting:
            self._collect(self._body)

    def watch(self, body: aiohttp.StreamReader) -> None:
        """Lay this body's pieces aside from now on; what came with the headers is the first of them."""
        self._pieces = []
        self._body = body
        self._collect(body)

    def take(self) -> list[tuple[float, bytes]]:
        """Pieces since the last call, each with its arrival on the monotonic clock."""
        pieces, self._pieces = self._pieces, []
        return pieces

    def forget(self) -> None:
        """Watch no more."""
        self._body = None

    def _collect(self, body: aiohttp.StreamReader) -> None:
        self._collecting = True
        try:
            while piece := body.read_nowait():
                self._pieces.append((self._arrived_s, piece))
        except (aiohttp.ClientError, OSError):
            pass  # whoever awaits the end sees it
        finally:
            self._collecting = False


class StampingConnector(aiohttp.TCPConnector):
    """Makes connections that stamp."""

    def __init__(self, **options: Any) -> None:
        super().__init__(**options)
        self._factory = functools.partial(StampingHandler, loop=asyncio.get_running_loop())  # type: ignore[assignment]
