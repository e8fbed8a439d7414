"""A client for the chat-completions JSON API that stamps every event as it arrives."""

import asyncio
import time
from types import SimpleNamespace
from typing import Any

import aiohttp
import msgspec

from kettlefield.core.plaintext import shorten, visible
from kettlefield.core.timeline import Trace
from kettlefield.core.units import format_duration
from kettlefield.server.events import EventStream
from kettlefield.server.exchange import Ask, Exchange
from kettlefield.server.stamping import StampingConnector, StampingHandler
from kettlefield.server.wire import Chunk, Delta, error_words

CHAT_PATH = "/v1/chat/completions"
TEXT_PATH = "/v1/completions"
_DECODER = msgspec.json.Decoder(Chunk)
BUSY = frozenset({429, 503})
MAX_CLOSING = 4  # events kept whole, for the settings that a server tells at the end
PARSE_EVERY_S = 0.25  # stamps are taken on arrival, so parsing may come late and in batches
_MAX_REPLY_CHARS = 16 * 2**20  # a reply beyond this is no reply; the stream is cut


class _Reply:
    """What has arrived of one reply."""

    def __init__(self) -> None:
        self.text: list[str] = []
        self.thinking: list[str] = []
        self.chars = 0
        self.stamps_s: list[float] = []
        self.marks: list[bool] = []
        self.finish_reason: str | None = None
        self.prompt_tokens: int | None = None
        self.completion_tokens: int | None = None
        self.fault: str | None = None
        self.retry_after_s: float | None = None
        self.done = False
        self.closing: list[Any] = []

    def take(self, data: bytes | str, stamp_s: float) -> None:
        """One event's data; a role-only or empty event carries no text and gets no stamp."""
        if data in {"[DONE]", b"[DONE]"}:
            self.done = True
            return
        try:
            chunk = _DECODER.decode(data)
        except (msgspec.DecodeError, msgspec.ValidationError, RecursionError) as err:
            shown = shorten(visible(str(data), keep_lines=False), 120)
            self.fault = f"sent an event that is no chat completion ({err}): {shown}"
            return
        if chunk.error is not None:
            self.fault = f"sent an error in mid-stream: {shorten(visible(error_words(chunk.error)), 300)}"
            return
        if chunk.is_closing and len(self.closing) < MAX_CLOSING:
            self.closing.append(msgspec.json.decode(data))
        if chunk.usage is not None:
            self.prompt_tokens = chunk.usage.prompt_tokens
            self.completion_tokens = chunk.usage.completion_tokens
        for choice in chunk.choices:
            self._take_delta(choice.delta or choice.message or Delta(content=choice.text), stamp_s)
            self.finish_reason = choice.finish_reason or self.finish_reason

    def take_piece(self, events: EventStream, piece: bytes, stamp_s: float) -> None:
        """A piece of the stream: all events that it completes arrived with it."""
        if self.fault is not None:
            return
        try:
            for event in events.feed(piece):
                self.take(event.data, stamp_s)
        except ValueError as err:
            self.fault = str(err)

    def _take_delta(self, delta: Delta, stamp_s: float) -> None:
        thought = delta.reasoning_content or delta.reasoning
        for text, store, mark in ((thought, self.thinking, True), (delta.content, self.text, False)):
            if text:
                store.append(text)
                self.chars += len(text)
                self.stamps_s.append(stamp_s)
                self.marks.append(mark)
        if self.chars > _MAX_REPLY_CHARS:
            self.fault = "sent more than 16 MiB of text"


class HttpClient:
    """Speaks to one server; made and used within one running event loop."""

    def __init__(self, url: str, *, reply_within_s: float, model: str, headers: dict[str, str] | None = None) -> None:
        self._url = url.rstrip("/")
        self._model = model
        self._reply_within_s = reply_within_s
        self._under_way = 0
        self._peaks: list[list[int]] = []  # for each request under way, the most there were beside it
        tracing = aiohttp.TraceConfig()
        tracing.on_request_chunk_sent.append(_stamp_sent)
        self._session = aiohttp.ClientSession(
            connector=StampingConnector(limit=0),
            timeout=aiohttp.ClientTimeout(total=None, sock_connect=10),
            headers=headers,
            trace_configs=[tracing],
        )

    async def close(self) -> None:
        """Let go of connections."""
        await self._session.close()

    async def ask(self, ask: Ask) -> Exchange:
        """Send one request and read its reply to the end.

        The stopwatch starts when the last byte of the request is handed to the socket. A server's
        failure - refused, broken off, nonsense, too slow - ends in ``fault`` beside what had arrived.
        """
        reply = _Reply()
        sent = SimpleNamespace(at_s=time.perf_counter())
        peak = [self._enter()]
        self._peaks.append(peak)
        asked_at = time.time()
        try:
            async with asyncio.timeout(self._reply_within_s):
                await self._exchange(ask, reply, sent)
        except TimeoutError:
            reply.fault = f"gave no end of its reply within {format_duration(self._reply_within_s)}"
        except (aiohttp.ClientError, OSError, ValueError) as err:
            reply.fault = reply.fault or f"broke off ({type(err).__name__}: {shorten(visible(str(err)), 200)})"
        finally:
            self._under_way -= 1
            self._peaks = [other for other in self._peaks if other is not peak]
        finished_s = time.perf_counter() - sent.at_s
        trace = Trace(
            stamps_s=tuple(stamp - sent.at_s for stamp in reply.stamps_s),
            thinking=tuple(reply.marks),
            finished_s=finished_s,
            prompt_tokens=reply.prompt_tokens,
            completion_tokens=reply.completion_tokens,
        )
        return Exchange(
            ask=ask,
            asked_at=asked_at,
            sent_s=sent.at_s,
            in_flight=peak[0],
            text="".join(reply.text),
            thinking="".join(reply.thinking),
            trace=trace,
            finish_reason=reply.finish_reason,
            fault=reply.fault,
            retry_after_s=reply.retry_after_s,
            echo=reply.closing,
        )

    def _enter(self) -> int:
        self._under_way += 1
        for peak in self._peaks:
            peak[0] = max(peak[0], self._under_way)
        return self._under_way

    async def _exchange(self, ask: Ask, reply: _Reply, sent: SimpleNamespace) -> None:
        body: dict[str, Any] = {
            "model": self._model,
            **({"messages": list(ask.messages)} if ask.is_chat else {"prompt": ask.messages[0]["content"]}),
            "stream": True,
            "stream_options": {"include_usage": True},
            **ask.sampling,
        }
        async with self._session.post(
            self._url + (CHAT_PATH if ask.is_chat else TEXT_PATH), json=body, trace_request_ctx=sent
        ) as response:
            if response.status != 200:
                said = shorten(visible(_error_text(await response.text(errors="replace")), keep_lines=False), 200)
                reply.fault = f"answered with status {response.status}: {said}"
                if response.status in BUSY:
                    reply.retry_after_s = _retry_after_s(response.headers.get("Retry-After", ""))
            elif response.content_type == "text/event-stream":
                await self._read_stream(response, reply)
            elif response.content_type == "application/json":
                reply.take(await response.read(), time.perf_counter())  # it does not stream: one event
            else:
                reply.fault = f"answered with {response.content_type} where an event stream was asked for"

    async def _read_stream(self, response: aiohttp.ClientResponse, reply: _Reply) -> None:
        """Read an event stream to its end; stamps are taken on arrival, parsing comes after."""
        body, events = response.content, EventStream()
        # a reply that is here whole has let go of its connection already
        handler = response.connection.protocol if response.connection is not None else None
        if not isinstance(handler, StampingHandler):
            reply.take_piece(events, await body.read(), time.perf_counter())
        else:
            handler.watch(body)
            ended = asyncio.ensure_future(body.wait_eof())
            try:
                while reply.fault is None and not ended.done():
                    await asyncio.wait({ended}, timeout=PARSE_EVERY_S)
                    for stamp_s, piece in handler.take():
                        reply.take_piece(events, piece, stamp_s)
                if reply.fault is None:
                    ended.result()
            finally:
                handler.forget()
                ended.cancel()
        if reply.fault is None and not reply.done and reply.finish_reason is None:
            reply.fault = "ended its reply without saying why"


async def _stamp_sent(_: Any, context: SimpleNamespace, __: Any) -> None:
    if context.trace_request_ctx is not None:
        context.trace_request_ctx.at_s = time.perf_counter()


def _retry_after_s(header: str) -> float:
    """Seconds that a busy server asks for; one where it gives a date or nothing (RFC 9110, 10.2.3)."""
    return float(header) if header.isascii() and header.isdigit() else 1.0


def _error_text(body: str) -> str:
    try:
        chunk = _DECODER.decode(body)
    except (msgspec.DecodeError, msgspec.ValidationError, RecursionError):
        return body
    return body if chunk.error is None else error_words(chunk.error)
