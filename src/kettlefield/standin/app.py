"""The simulated inference server's HTTP face: health, model list, chat completions with streaming."""

import asyncio
import json
import os
import time
from collections.abc import Awaitable, Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from aiohttp import web

from kettlefield import __version__
from kettlefield.rig.simulated_card import claim_bytes, report_work, used_bytes
from kettlefield.standin.assessor import SimulatedAssessor
from kettlefield.standin.engine import Engine, Stream
from kettlefield.standin.physics import Physics
from kettlefield.standin.quirks import Quirks, TrueLog, now_s
from kettlefield.standin.replies import Replier, tokens_of
from kettlefield.standin.wrapping import Reply

SERVER_NAME = f"kettlefield-standin/{__version__} (simulated)"
REPORT_EVERY_S = 0.05
Handler = Callable[[web.Request], Awaitable[web.StreamResponse]]
LOAD_STEPS = 10  # in which memory fills while the weights are read


@dataclass(frozen=True, slots=True, kw_only=True)
class Settings:
    """How the stand-in was started."""

    physics: Physics
    replier: Replier
    assessor: SimulatedAssessor | None  # none: it does not assess
    card: Path
    level: str
    context_tokens: int
    slots: int
    quirks: Quirks


class App:
    """Handlers and what they share."""

    def __init__(self, settings: Settings) -> None:
        self._settings = settings
        self._quirks = settings.quirks
        self._engine = Engine(settings.physics, settings.slots, settings.quirks)
        self._log = TrueLog(settings.quirks.true_log)
        self._leaked = 0
        self._told = (0, 0.0, False)
        self._loaded = False
        self._asked = 0
        self._tasks: list[asyncio.Task[None]] = []

    def build(self) -> web.Application:
        """The aiohttp application."""
        app = web.Application(client_max_size=32 * 2**20, middlewares=[self._check_key])
        app.router.add_get("/health", self._health)
        app.router.add_get("/v1/models", self._models)
        app.router.add_post("/v1/chat/completions", self._complete)
        app.router.add_post("/v1/completions", self._complete)
        app.on_startup.append(self._start)
        app.on_response_prepare.append(_name_server)
        return app

    @web.middleware
    async def _check_key(self, request: web.Request, handler: Handler) -> web.StreamResponse:
        key = self._quirks.key
        if key is not None and request.method == "POST" and request.headers.get("Authorization") != f"Bearer {key}":
            return web.json_response({"error": {"message": "wrong or missing key"}}, status=401)
        return await handler(request)

    async def _start(self, _: web.Application) -> None:
        work = (self._load(), self._engine.run(), self._report())
        self._tasks = [asyncio.create_task(each) for each in work]

    async def _load(self) -> None:
        settings = self._settings
        need = self._base_bytes()
        for step in range(1, LOAD_STEPS + 1):
            await asyncio.sleep(settings.physics.load_s() / LOAD_STEPS)
            claim_bytes(settings.card, need * step // LOAD_STEPS)
        self._loaded = True
        print(f"loaded {settings.physics.model.name} (simulated): {need} bytes on the card", flush=True)

    def _base_bytes(self) -> int:
        """Memory before the first request: the whole cache at once, unless it grows on demand."""
        settings = self._settings
        context = 0 if self._quirks.cache_on_demand else settings.context_tokens
        return settings.physics.memory_bytes(context, settings.slots)

    async def _report(self) -> None:
        """Keep the card's figures true: memory that grows, energy, warmth."""
        while True:
            await asyncio.sleep(REPORT_EVERY_S)
            if self._loaded:
                self._tell_card()

    def _tell_card(self) -> None:
        card, per_token = self._settings.card, self._settings.physics.model.kv_bytes_per_token
        grown = self._engine.most_depth_tokens * per_token if self._quirks.cache_on_demand else 0
        now = (grown + self._leaked, self._engine.joules, self._engine.throttled)
        if now == self._told:
            return
        self._told = now
        extra, joules, throttled = now
        if extra:
            free = self._settings.physics.card.memory_bytes - sum(others_bytes(card).values())
            if self._base_bytes() + extra > free:
                print(f"out of memory on the card: needs {self._base_bytes() + extra}, {free} free", flush=True)
                os._exit(1)
            claim_bytes(card, self._base_bytes() + extra)
        report_work(card, joules, throttled=throttled)

    async def _health(self, _: web.Request) -> web.Response:
        if not self._loaded:
            return web.json_response({"status": "loading"}, status=503)
        return web.json_response({"status": "ok", "simulated": True})

    async def _models(self, _: web.Request) -> web.Response:
        entry = {"id": f"{self._settings.physics.model.name}@{self._settings.level}", "object": "model"}
        return web.json_response({"object": "list", "data": [entry]})

    async def _complete(self, request: web.Request) -> web.StreamResponse:
        if not self._loaded:
            return _error(503, "the model is still loading")
        received_s = now_s()
        self._asked += 1
        self._leaked += self._quirks.leak_bytes
        if self._quirks.busy_after is not None and self._engine.waiting >= self._quirks.busy_after:
            return _error(429, "too many requests are waiting", {"Retry-After": "1"})
        if self._quirks.die_after is not None and self._asked > self._quirks.die_after:
            print("simulated fault: the process dies", flush=True)
            os._exit(70)
        try:
            body = await request.json()
            is_chat = request.path.endswith("/chat/completions")
            prompt = "\n".join(str(m["content"]) for m in body["messages"]) if is_chat else str(body["prompt"])
            cap = int(body.get("max_tokens", 512))
        except (ValueError, KeyError, TypeError) as err:
            return _error(400, f"malformed request: {type(err).__name__}")
        tokens = tokens_of(prompt)
        if len(tokens) + 1 > self._settings.context_tokens:
            if self._quirks.past_window == "crash":
                print("simulated fault: the context overflows", flush=True)
                os._exit(71)
            if self._quirks.past_window == "refuse":
                said = f"{len(tokens)} prompt tokens exceed the context of {self._settings.context_tokens}"
                return _error(400, said)
            tokens = tokens[-(self._settings.context_tokens - 1) :]
        prompt_tokens = len(tokens)
        cap = min(cap, self._settings.context_tokens - prompt_tokens)
        seed, assessor = int(body.get("seed") or 0), self._settings.assessor
        if assessor is not None and assessor.is_asked(prompt):
            reply = Reply(assessor.reply(prompt, seed))
        else:
            reply = self._settings.replier.reply(prompt, seed, is_chat=is_chat)
        pieces, reason = _pieces(reply, cap)
        stream = Stream(prompt=tokens, wanted_tokens=len(pieces))
        usage = {"prompt_tokens": prompt_tokens, "completion_tokens": len(pieces)}
        try:
            self._tell_card()
            if body.get("stream"):
                sent_s: list[float] = []
                try:
                    return await self._stream(request, stream, pieces, reason, usage, sent_s)
                finally:
                    self._log.write(
                        received_s=received_s,
                        sent_s=sent_s,
                        prompt_tokens=prompt_tokens,
                        cached_tokens=stream.cached_tokens,
                        prompt=prompt[:40],
                    )
            return await self._whole(stream, pieces, reason, usage)
        finally:
            stream.dropped = True

    async def _stream(
        self,
        request: web.Request,
        stream: Stream,
        pieces: list[tuple[str, bool]],
        reason: str,
        usage: dict[str, int],
        sent_s: list[float],
    ) -> web.StreamResponse:
        is_chat = request.path.endswith("/chat/completions")
        response = web.StreamResponse(headers={"Content-Type": "text/event-stream", "Cache-Control": "no-cache"})
        await response.prepare(request)
        self._engine.submit(stream)
        if is_chat:
            await response.write(_event({"delta": {"role": "assistant", "content": ""}}))
        for number, (text, thinking) in enumerate(pieces, 1):
            await stream.ready.get()
            if number == len(pieces):
                self._tell_card()  # before the end is told: whoever looks then sees the truth
            delta = {"delta": {"reasoning_content" if thinking else "content": text}}
            sent_s.append(now_s())
            await response.write(_event(delta if is_chat else {"text": text}))
        await response.write(_event({"delta": {}} if is_chat else {"text": ""}, reason))
        final = {"choices": [], "usage": usage, "object": "chat.completion.chunk"}
        await response.write(f"data: {json.dumps(final)}\n\ndata: [DONE]\n\n".encode())
        await response.write_eof()
        return response

    async def _whole(
        self, stream: Stream, pieces: list[tuple[str, bool]], reason: str, usage: dict[str, int]
    ) -> web.Response:
        self._engine.submit(stream)
        for _ in pieces:
            await stream.ready.get()
        message = {"role": "assistant", "content": "".join(text for text, thinking in pieces if not thinking)}
        choice = {"index": 0, "message": message, "finish_reason": reason}
        return web.json_response({"object": "chat.completion", "choices": [choice], "usage": usage})


def others_bytes(card: Path) -> dict[int, int]:
    """What other processes use on the card, in bytes by process id."""
    return {pid: used for pid, used in used_bytes(card).items() if pid != os.getpid()}


def _pieces(reply: Reply, cap: int) -> tuple[list[tuple[str, bool]], str]:
    """The reply token by token with a thinking mark each, and why it ends."""
    pieces = [(piece, True) for piece in tokens_of(reply.thinking)]
    pieces += [(piece, False) for piece in tokens_of(reply.text)]
    if reply.endless:
        ending = pieces[-24:]
        while len(pieces) <= cap:
            pieces += ending
    return (pieces[:cap], "length") if len(pieces) > cap else (pieces, "stop")


def _event(content: dict[str, Any], reason: str | None = None) -> bytes:
    choice = {"index": 0, **content, "finish_reason": reason}
    chunk = {"object": "chat.completion.chunk", "created": int(time.time()), "choices": [choice]}
    return f"data: {json.dumps(chunk)}\n\n".encode()


def _error(status: int, text: str, headers: dict[str, str] | None = None) -> web.Response:
    return web.json_response({"error": {"message": text, "code": status}}, status=status, headers=headers)


async def _name_server(_: web.Request, response: web.StreamResponse) -> None:
    response.headers["Server"] = SERVER_NAME
