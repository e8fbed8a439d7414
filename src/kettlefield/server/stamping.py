"""Connections whose bytes are stamped the moment the event loop hands them over.

The usual way - a task awaits each piece, parses it, awaits the next - lets every stream wait for the
parsing of the others: at 64 streams of 50 tokens/s its stamps lag more than a millisecond behind a bare
socket reader (benchmarks/stopwatch.py). Here a stream's pieces are stamped and laid aside as they come, and
parsed a little later.
"""

import asyncio
import functools
import time
from typing import Any

import aiohttp
from aiohttp.client_proto import ResponseHandler


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
            pass  # whoever awaits the end is told of it
        finally:
            self._collecting = False


class StampingConnector(aiohttp.TCPConnector):
    """Makes connections that stamp."""

    def __init__(self, **options: Any) -> None:
        super().__init__(**options)
        self._factory = functools.partial(StampingHandler, loop=asyncio.get_running_loop())  # type: ignore[assignment]
