"""A client for the chat-completions JSON API that stamps every event as it arrives; the wire's types."""

import asyncio
import json
import time
from collections.abc import Callable, Mapping, Sequence
from http import HTTPStatus
from types import SimpleNamespace
from typing import Any

import aiohttp
import msgspec

from kettlefield.core.extraction.reply_symptoms import says_over_context
from kettlefield.core.plaintext import shorten, visible
from kettlefield.core.timing.timeline import Trace
from kettlefield.core.units import format_bytes, format_duration
from kettlefield.server.events import EventStream, StampingConnector, StampingHandler
from kettlefield.server.exchange import Ask, Exchange, ToolCall, UnderWay
from kettlefield.server.prompt_scores import (
    Scores,
    next_request,
    read_next,
    read_reply,
    read_scores,
    reply_request,
    score_request,
)


class FunctionPiece(msgspec.Struct, frozen=True):
    """What a piece of a call says of its function; some servers send the arguments as an object, not as text."""

    name: str | None = None
    arguments: Any = None


class CallPiece(msgspec.Struct, frozen=True):
    """A piece of a call, or a whole one; pieces of one call share its index."""

    index: int | None = None
    id: str | None = None
    function: FunctionPiece | None = None


class Delta(msgspec.Struct, frozen=True):
    """A piece of a message; servers name the thinking field in two ways."""

    content: str | None = None
    reasoning_content: str | None = None
    reasoning: str | None = None
    tool_calls: tuple[CallPiece, ...] | None = None


class Choice(msgspec.Struct, frozen=True):
    """One choice of a chunk, or of a whole response."""

    delta: Delta | None = None
    message: Delta | None = None
    text: str | None = None  # of the plain completions API
    finish_reason: str | None = None


class Usage(msgspec.Struct, frozen=True):
    """Token counts as the server gives them."""

    prompt_tokens: int | None = None
    completion_tokens: int | None = None


class Chunk(msgspec.Struct, frozen=True):
    """One event's data, or a response that was not streamed."""

    choices: tuple[Choice, ...] = ()
    usage: Usage | None = None
    error: Any = None

    @property
    def is_closing(self) -> bool:
        """Whether it ends the reply or counts it: where servers tell the settings that they took."""
        return self.usage is not None or any(choice.finish_reason for choice in self.choices)


class ModelEntry(msgspec.Struct, frozen=True):
    """One entry of the model list."""

    id: str = ""


class ModelList(msgspec.Struct, frozen=True):
    """``GET /v1/models``."""

    data: tuple[ModelEntry, ...] = ()


def error_words(error: Any) -> str:
    """An error object in words, whatever its form."""
    if isinstance(error, dict):
        return str(error.get("message") or error.get("detail") or error)
    return str(error)


CHAT_PATH = "/v1/chat/completions"
TEXT_PATH = "/v1/completions"
MOST_SCORES_BYTES = 64 * 2**20  # of one text's log-probabilities; an honest answer has some hundred KiB
_DECODER = msgspec.json.Decoder(Chunk)
BUSY = frozenset({429, 503})
MAX_CALLS = 64  # of one reply; further ones are not read
MAX_CLOSING = 4  # events kept whole, for the settings that a server tells at the end
PARSE_EVERY_S = 0.25  # stamps are taken on arrival, so parsing may come late and in batches
NO_REASON = "ended its reply without saying why"
_MAX_REPLY_CHARS = 16 * 2**20  # a reply beyond this is not a reply; the stream is cut


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
        self.unexplained = False  # the fault is that it broke off without a word
        self.refused = False
        self.words = ""  # the server's own, with an error
        self.retry_after_s: float | None = None
        self.done = False
        self.closing: list[Any] = []
        self.calls: dict[int, list[str]] = {}  # by index: id, name, arguments so far

    @property
    def tool_calls(self) -> tuple[ToolCall, ...]:
        """The calls as far as they have come, in the order of their index."""
        return tuple(
            ToolCall(id=id_, name=name, arguments=arguments) for _, (id_, name, arguments) in sorted(self.calls.items())
        )

    def take(self, data: bytes | str, stamp_s: float) -> None:
        """One event's data; a role-only or empty event carries no text and gets no stamp."""
        if data in {"[DONE]", b"[DONE]"}:
            self.done = True
            return
        try:
            chunk, whole = decode_chunk(data)
        except (msgspec.DecodeError, msgspec.ValidationError, ValueError, RecursionError) as err:
            shown = shorten(visible(str(data), keep_lines=False), 120)
            self.fault = f"sent an event that is not a chat completion ({err}): {shown}"
            return
        if chunk.error is not None:
            self.words, self.refused = error_words(chunk.error), True
            self.fault = f"sent an error in mid-stream: {shorten(visible(self.words), 300)}"
            return
        if chunk.is_closing and len(self.closing) < MAX_CLOSING:
            self.closing.append(whole if whole is not None else msgspec.json.decode(data))
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
        for piece in (delta.tool_calls or ())[:MAX_CALLS]:
            self._take_call(piece, stamp_s)
        if self.chars > _MAX_REPLY_CHARS:
            self.fault = "sent more than 16 MiB of text"

    def _take_call(self, piece: CallPiece, stamp_s: float) -> None:
        """A piece of a call; what it writes was made token by token, so it is stamped as text is.

        Without an index a piece that names a function begins a call, and any other continues the last.
        """
        function = piece.function or FunctionPiece()
        last = max(self.calls, default=-1)
        index = piece.index if piece.index is not None else last + 1 if function.name or last < 0 else last
        if index not in self.calls and len(self.calls) >= MAX_CALLS:
            return
        call = self.calls.setdefault(index, ["", "", ""])
        written = function.arguments
        written = "" if written is None else written if isinstance(written, str) else json.dumps(written)
        call[0] = piece.id or call[0]
        if function.name and function.name != call[1]:  # some servers repeat the name with each piece
            call[1] += function.name
        call[2] += written
        if function.name or written:
            self.chars += len(written)
            self.stamps_s.append(stamp_s)
            self.marks.append(False)


class HttpClient:
    """Speaks to one server; made and used within one running event loop."""

    def __init__(self, url: str, *, reply_within_s: float, model: str, headers: dict[str, str] | None = None) -> None:
        self._url = url.rstrip("/")
        self._model = model
        self._reply_within_s = reply_within_s
        self._under_way = UnderWay()
        tracing = aiohttp.TraceConfig()
        tracing.on_request_chunk_sent.append(_stamp_sent)
        self._session = aiohttp.ClientSession(
            # a connection for each request: one that is kept may be closed by the server just as it is used again,
            # which would look like a fault; making one comes before the stopwatch starts
            connector=StampingConnector(limit=0, force_close=True),
            timeout=aiohttp.ClientTimeout(total=None, sock_connect=10),
            headers=headers,
            trace_configs=[tracing],
        )

    async def close(self) -> None:
        """Let go of connections."""
        await self._session.close()

    async def ask(self, ask: Ask, *, stream: bool = True) -> Exchange:
        """Send one request and read its reply to the end.

        The stopwatch starts when the last byte of the request is handed to the socket. A server's
        failure - refused, broken off, nonsense, too slow - ends in ``fault`` beside what had arrived. A stream that
        ends without a word is asked for once more without streaming: some servers say only there what is wrong.
        """
        asked_at = time.time()
        sent = SimpleNamespace(at_s=time.perf_counter(), done=False)
        with self._under_way.request() as peak:
            reply = await self._reply(ask, sent, stream=stream)
            finished_s = time.perf_counter() - sent.at_s
            if stream and reply.unexplained and sent.done:
                reply = _second(reply, await self._reply(ask, SimpleNamespace(at_s=0.0, done=False), stream=False))
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
            concurrency=peak[0],
            text="".join(reply.text),
            thinking="".join(reply.thinking),
            trace=trace,
            finish_reason=reply.finish_reason,
            fault=reply.fault,
            refused=reply.refused,
            over_context=reply.fault is not None and says_over_context(reply.words),
            sent=sent.done,
            retry_after_s=reply.retry_after_s,
            tool_calls=reply.tool_calls,
            echo=reply.closing,
        )

    async def score(self, text: str, *, begins: int, top: int) -> Scores:
        """See `Scorer`."""
        return await self._scores(
            TEXT_PATH, score_request(text, top), lambda body: read_scores(body, text, begins, top)
        )

    async def score_next(self, text: str, *, top: int) -> Scores:
        """See `Scorer`."""
        return await self._scores(TEXT_PATH, next_request(text, top), lambda body: read_next(body, top))

    async def score_reply(self, messages: Sequence[Mapping[str, str]], *, most_tokens: int, top: int) -> Scores:
        """See `Scorer`."""
        fields = reply_request(messages, most_tokens, top)
        return await self._scores(CHAT_PATH, fields, lambda body: read_reply(body, top))

    async def _scores(self, path: str, fields: dict[str, Any], read: Callable[[Any], Scores]) -> Scores:
        body = {"model": self._model, **fields}
        try:
            async with (
                asyncio.timeout(self._reply_within_s),
                self._session.post(
                    self._url + path, json=body, trace_request_ctx=SimpleNamespace(at_s=0.0, done=False)
                ) as response,
            ):
                if response.status != HTTPStatus.OK:
                    said = shorten(visible(_error_text(await response.text(errors="replace")), keep_lines=False), 200)
                    return Scores(fault=f"answered with status {response.status}: {said}")
                body_bytes = bytearray()
                async for piece in response.content.iter_chunked(2**16):
                    body_bytes += piece
                    if len(body_bytes) > MOST_SCORES_BYTES:
                        return Scores(fault=f"answered with more than {format_bytes(MOST_SCORES_BYTES)}")
                return read(json.loads(body_bytes))
        except TimeoutError:
            return Scores(fault=f"gave no log-probabilities within {format_duration(self._reply_within_s)}")
        except (aiohttp.ClientError, OSError, ValueError, RecursionError) as err:
            return Scores(fault=f"broke off ({type(err).__name__}: {shorten(visible(str(err)), 200)})")

    async def _reply(self, ask: Ask, sent: SimpleNamespace, *, stream: bool) -> _Reply:
        reply = _Reply()
        try:
            async with asyncio.timeout(self._reply_within_s):
                await self._exchange(ask, reply, sent, stream=stream)
        except TimeoutError:
            reply.fault = f"gave no end of its reply within {format_duration(self._reply_within_s)}"
        except (aiohttp.ClientError, OSError, ValueError) as err:
            reply.unexplained = reply.fault is None
            reply.fault = reply.fault or f"broke off ({type(err).__name__}: {shorten(visible(str(err)), 200)})"
        if not stream:
            reply.stamps_s, reply.marks = [], []  # it came in one piece: that moment is not a time to a token
        return reply

    async def _exchange(self, ask: Ask, reply: _Reply, sent: SimpleNamespace, *, stream: bool) -> None:
        body: dict[str, Any] = {
            "model": self._model,
            **({"messages": list(ask.messages)} if ask.is_chat else {"prompt": ask.messages[0]["content"]}),
            "stream": stream,
            **({"stream_options": {"include_usage": True}} if stream else {}),
            **({"tools": list(ask.tools)} if ask.tools else {}),
            **ask.sampling,
        }
        async with self._session.post(
            self._url + (CHAT_PATH if ask.is_chat else TEXT_PATH), json=body, trace_request_ctx=sent
        ) as response:
            if response.status != 200:
                reply.words = _error_text(await response.text(errors="replace"))
                reply.refused = True  # some servers answer 500 to a setting that they do not know
                said = shorten(visible(reply.words, keep_lines=False), 200)
                reply.fault = f"answered with status {response.status}: {said}"
                if response.status in BUSY:
                    reply.refused = False
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
            reply.fault, reply.unexplained = NO_REASON, True


def _second(first: _Reply, plain: _Reply) -> _Reply:
    """What stands after a stream that ended without a word and the same request without streaming."""
    if plain.fault is None:
        return plain
    if plain.unexplained:  # no more words than before
        return first
    plain.fault = f"{first.fault}; asked again without streaming it {plain.fault}"
    plain.calls = first.calls
    plain.text, plain.thinking = first.text, first.thinking
    plain.stamps_s, plain.marks = first.stamps_s, first.marks
    return plain


def decode_chunk(data: bytes | str) -> tuple[Chunk, Any]:
    """One event's data, and the whole of it where the quick decoder could not read it.

    Halves of surrogate pairs, which a server may send escaped, are part of a reply: only the standard library's
    decoder takes them.

    Raises
    ------
    ValueError
        It is not JSON, or has another form.
    """
    try:
        return _DECODER.decode(data), None
    except msgspec.ValidationError:
        raise
    except msgspec.DecodeError:
        whole = json.loads(data)
        return msgspec.convert(whole, Chunk), whole


async def _stamp_sent(_: Any, context: SimpleNamespace, __: Any) -> None:
    if context.trace_request_ctx is not None:
        context.trace_request_ctx.at_s = time.perf_counter()
        context.trace_request_ctx.done = True


def _retry_after_s(header: str) -> float:
    """Seconds that a busy server asks for; one where it gives a date or nothing (RFC 9110, 10.2.3)."""
    return float(header) if header.isascii() and header.isdigit() else 1.0


def _error_text(body: str) -> str:
    try:
        chunk, _ = decode_chunk(body)
    except (msgspec.DecodeError, msgspec.ValidationError, ValueError, RecursionError):
        return body
    return body if chunk.error is None else error_words(chunk.error)
