"""The HTTP face that both servers have, and the log of what really happened to each request."""

import asyncio
import json
import math
import time
from collections.abc import AsyncIterator, Awaitable, Callable, Coroutine, Mapping
from pathlib import Path
from typing import Any, Protocol

import msgspec
from aiohttp import web

MOST_BODY_BYTES = 32 * 2**20


class RefusedError(Exception):
    """A request that is not carried out."""

    def __init__(self, status: int, text: str, headers: Mapping[str, str] | None = None) -> None:
        super().__init__(text)
        self.status, self.text, self.headers = status, text, headers


class Asked(msgspec.Struct, frozen=True, kw_only=True):
    """A request as it came."""

    body: dict[str, Any]
    is_chat: bool
    received_s: float

    def number(self, name: str, default: float) -> float:
        """A number of the request; null counts as not given.

        Raises
        ------
        RefusedError
            It is not a number.
        """
        value = self.body.get(name)
        if value is None:
            return default
        if isinstance(value, bool) or not isinstance(value, int | float) or not math.isfinite(value):
            raise RefusedError(400, f"{name} is not a number")
        return value


class CallStart(msgspec.Struct, frozen=True):
    """The call that a piece belongs to; the first piece of a call names its function."""

    index: int
    id: str
    name: str
    is_first: bool


class Piece(msgspec.Struct, kw_only=True):
    """What one event carries."""

    text: str
    thinking: bool = False
    call: CallStart | None = None  # the text is a part of this call's arguments

    @property
    def delta(self) -> dict[str, Any]:
        """As the protocol has it in a stream."""
        if self.call is None:
            return {"reasoning_content" if self.thinking else "content": self.text}
        function: dict[str, Any] = {"arguments": self.text}
        if not self.call.is_first:
            return {"tool_calls": [{"index": self.call.index, "function": function}]}
        named = {"name": self.call.name, **function}
        return {"tool_calls": [{"index": self.call.index, "id": self.call.id, "type": "function", "function": named}]}


class Answer(msgspec.Struct, kw_only=True):
    """A reply that is being made; its pieces are drawn one by one."""

    prompt_tokens: int
    pieces: AsyncIterator[Piece]
    finish: Callable[[], tuple[int, str]]  # once the pieces have ended: how many tokens they were, why they ended
    sent_s: list[float] = msgspec.field(default_factory=list)  # when each piece was sent, by the monotonic clock

    def usage(self) -> dict[str, int]:
        """As the protocol tells it."""
        made, _ = self.finish()
        return {
            "prompt_tokens": self.prompt_tokens,
            "completion_tokens": made,
            "total_tokens": self.prompt_tokens + made,
        }


class TokenScore(msgspec.Struct, frozen=True, kw_only=True):
    """One token of a prompt, and how likely it and others were there; None: it is the first."""

    text: str
    logprob: float | None
    top: dict[str, float] | None


MOST_LISTED = 50  # likeliest tokens at a place
# what log-probabilities are told of: a prompt that is echoed, the token after it, the reply to a chat
SCORED = ("prompt", "next", "replies")


class Backend(Protocol):
    """What answers."""

    @property
    def server_name(self) -> str:
        """For the Server header."""

    @property
    def health(self) -> dict[str, Any] | None:
        """What it says when it is asked for its health; None: it is still loading."""

    @property
    def model_id(self) -> str:
        """Of the model that is served."""

    def check_key(self, header: str | None) -> bool:
        """Whether an Authorization header lets one in."""

    def work(self) -> list[Coroutine[Any, Any, None]]:
        """What runs as long as the server does."""

    def begin(self, asked: Asked) -> Answer:
        """Start on a reply.

        Raises
        ------
        RefusedError
            The request cannot be carried out.
        """

    @property
    def scored(self) -> str:
        """The one of `SCORED` that it tells log-probabilities of, or anything else: of none."""

    def score(self, asked: Asked, top: int) -> list[TokenScore]:
        """The tokens that it tells log-probabilities of.

        Raises
        ------
        RefusedError
            The request cannot be carried out.
        """

    def gauges(self) -> dict[str, float]:
        """How many requests run and wait, and what share of the cache is in use."""

    def end(self, asked: Asked, answer: Answer) -> None:
        """The reply was drawn to its end, or whoever asked has gone."""


Handler = Callable[[web.Request], Awaitable[web.StreamResponse]]


class Front:
    """Handlers in front of a backend."""

    def __init__(self, backend: Backend) -> None:
        self._backend = backend
        self._counted = {"prompt_tokens_total": 0, "completion_tokens_total": 0}
        self._tasks: list[asyncio.Task[None]] = []

    def build(self) -> web.Application:
        """The aiohttp application."""
        app = web.Application(client_max_size=MOST_BODY_BYTES, middlewares=[self._check_key])
        app.router.add_get("/health", self._health)
        app.router.add_get("/v1/models", self._models)
        app.router.add_get("/metrics", self._metrics)
        app.router.add_post("/v1/chat/completions", self._complete)
        app.router.add_post("/v1/completions", self._complete)
        app.on_startup.append(self._start)
        app.on_response_prepare.append(self._name_server)
        return app

    @web.middleware
    async def _check_key(self, request: web.Request, handler: Handler) -> web.StreamResponse:
        if request.method == "POST" and not self._backend.check_key(request.headers.get("Authorization")):
            return web.json_response({"error": {"message": "wrong or missing key"}}, status=401)
        return await handler(request)

    async def _start(self, _: web.Application) -> None:
        self._tasks = [asyncio.create_task(each) for each in self._backend.work()]

    async def _health(self, _: web.Request) -> web.Response:
        health = self._backend.health
        if health is None:
            return web.json_response({"status": "loading"}, status=503)
        return web.json_response({"status": "ok", **health})

    async def _models(self, _: web.Request) -> web.Response:
        entry = {"id": self._backend.model_id, "object": "model"}
        return web.json_response({"object": "list", "data": [entry]})

    async def _metrics(self, _: web.Request) -> web.Response:
        """In the Prometheus text format."""
        lines = [f"# {self._backend.server_name}"]
        for kind, values in (("counter", self._counted), ("gauge", self._backend.gauges())):
            for name, value in values.items():
                lines += [f"# TYPE {name} {kind}", f"{name} {value:.17g}"]
        return web.Response(text="\n".join(lines) + "\n", content_type="text/plain")

    async def _complete(self, request: web.Request) -> web.StreamResponse:
        if self._backend.health is None:
            return _error(RefusedError(503, "the model is still loading"))
        received_s = now_s()
        try:
            body = await request.json()
        except (ValueError, RecursionError) as err:
            return _error(RefusedError(400, f"malformed request: {type(err).__name__}"))
        if not isinstance(body, dict):
            return _error(RefusedError(400, "malformed request: no object"))
        asked = Asked(body=body, is_chat=request.path.endswith("/chat/completions"), received_s=received_s)
        if body.get("logprobs") and _wanted_scores(asked) == self._backend.scored:
            try:
                top = int(asked.number("top_logprobs" if asked.is_chat else "logprobs", 1))
                scores = await asyncio.to_thread(self._backend.score, asked, min(top, MOST_LISTED))
                return _listed(scores) if asked.is_chat else _echoed(scores)
            except RefusedError as err:
                return _error(err)
        try:
            answer = self._backend.begin(asked)
        except RefusedError as err:
            return _error(err)
        try:
            return await (_stream(request, asked, answer) if body.get("stream") else _whole(asked, answer))
        except RefusedError as err:
            return _error(err)
        finally:
            usage = answer.usage()
            self._counted["prompt_tokens_total"] += usage["prompt_tokens"]
            self._counted["completion_tokens_total"] += usage["completion_tokens"]
            self._backend.end(asked, answer)

    async def _name_server(self, _: web.Request, response: web.StreamResponse) -> None:
        response.headers["Server"] = self._backend.server_name


async def _stream(request: web.Request, asked: Asked, answer: Answer) -> web.StreamResponse:
    response = web.StreamResponse(headers={"Content-Type": "text/event-stream", "Cache-Control": "no-cache"})
    await response.prepare(request)
    if asked.is_chat:
        await response.write(_event({"delta": {"role": "assistant", "content": ""}}))
    try:
        async for piece in answer.pieces:
            delta = {"delta": piece.delta}
            answer.sent_s.append(now_s())
            await response.write(_event(delta if asked.is_chat else {"text": piece.text}))
    except RefusedError as err:  # too late for a status
        await response.write(_line({"error": _described(err)}))
        await response.write_eof()
        return response
    await response.write(_event({"delta": {}} if asked.is_chat else {"text": ""}, answer.finish()[1]))
    await response.write(_line({"choices": [], "usage": answer.usage(), "object": "chat.completion.chunk"}))
    await response.write(b"data: [DONE]\n\n")
    await response.write_eof()
    return response


async def _whole(asked: Asked, answer: Answer) -> web.Response:
    pieces = [piece async for piece in answer.pieces]
    said = "".join(piece.text for piece in pieces if not piece.thinking and piece.call is None)
    calls = [
        {
            "id": first.id,
            "type": "function",
            "function": {
                "name": first.name,
                "arguments": "".join(one.text for one in pieces if one.call is not None and one.call.id == first.id),
            },
        }
        for first in (piece.call for piece in pieces)
        if first is not None and first.is_first
    ]
    message = {"role": "assistant", "content": said, **({"tool_calls": calls} if calls else {})}
    content = {"message": message} if asked.is_chat else {"text": said}
    choice = {"index": 0, **content, "finish_reason": answer.finish()[1]}
    kind = "chat.completion" if asked.is_chat else "text_completion"
    return web.json_response({"object": kind, "choices": [choice], "usage": answer.usage()})


def _wanted_scores(asked: Asked) -> str:
    """Of what a request that asks for log-probabilities wants them."""
    if asked.body.get("stream"):
        return ""
    if asked.is_chat:
        return "replies"
    return "prompt" if asked.body.get("echo") else "next" if asked.body.get("max_tokens") == 1 else ""


def _listed(scores: list[TokenScore]) -> web.Response:
    """A chat reply with what stood beside each of its tokens."""
    content = [
        {
            "token": one.text,
            "logprob": one.logprob,
            "top_logprobs": [{"token": text, "logprob": logprob} for text, logprob in (one.top or {}).items()],
        }
        for one in scores
    ]
    message = {"role": "assistant", "content": "".join(one.text for one in scores)}
    choice = {"index": 0, "message": message, "logprobs": {"content": content}, "finish_reason": "stop"}
    usage = {"prompt_tokens": 0, "completion_tokens": len(scores), "total_tokens": len(scores)}
    return web.json_response({"object": "chat.completion", "choices": [choice], "usage": usage})


def _echoed(scores: list[TokenScore]) -> web.Response:
    """A prompt given back with its log-probabilities."""
    found = {
        "tokens": [one.text for one in scores],
        "token_logprobs": [one.logprob for one in scores],
        "top_logprobs": [one.top for one in scores],
    }
    choice = {"index": 0, "text": "".join(one.text for one in scores), "logprobs": found, "finish_reason": "length"}
    usage = {"prompt_tokens": len(scores), "completion_tokens": 0, "total_tokens": len(scores)}
    return web.json_response({"object": "text_completion", "choices": [choice], "usage": usage})


def _event(content: dict[str, Any], reason: str | None = None) -> bytes:
    choice = {"index": 0, **content, "finish_reason": reason}
    return _line({"object": "chat.completion.chunk", "created": int(time.time()), "choices": [choice]})


def _line(chunk: dict[str, Any]) -> bytes:
    return f"data: {json.dumps(chunk)}\n\n".encode()


def _error(why: RefusedError) -> web.Response:
    return web.json_response({"error": _described(why)}, status=why.status, headers=why.headers)


def _described(why: RefusedError) -> dict[str, Any]:
    return {"message": why.text, "code": why.status}


def now_s() -> float:
    """The monotonic clock that all processes of this host share."""
    return time.perf_counter()


class TrueLog:
    """Writes what really happened to each request; the clock is the host's monotonic one, as the stopwatch's."""

    def __init__(self, path: Path | None) -> None:
        self._file = path.open("a", encoding="utf-8", buffering=1) if path is not None else None

    def write(self, asked: Asked, answer: Answer, *, cached_tokens: int, prompt: str) -> None:
        """One streamed request: when it came, when each of its pieces was sent, how its prompt begins."""
        if self._file is None or not asked.body.get("stream"):
            return
        facts = {
            "received_s": asked.received_s,
            "sent_s": answer.sent_s,
            "prompt_tokens": answer.prompt_tokens,
            "cached_tokens": cached_tokens,
            "prompt": prompt[:40],
        }
        self._file.write(json.dumps(facts) + "\n")
