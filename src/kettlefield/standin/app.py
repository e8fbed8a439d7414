"""The simulated inference server's HTTP face: health, model list, chat completions with streaming."""

import asyncio
import json
import os
import time
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from aiohttp import web

from kettlefield import __version__
from kettlefield.rig.simulated_card import claim_bytes
from kettlefield.standin.engine import Engine, Stream
from kettlefield.standin.physics import Physics
from kettlefield.standin.replies import Replier, tokens_of
from kettlefield.standin.wrapping import Reply

SERVER_NAME = f"kettlefield-standin/{__version__} (simulated)"
LOAD_STEPS = 10  # in which memory fills while the weights are read


@dataclass(frozen=True, slots=True, kw_only=True)
class Settings:
    """How the stand-in was started."""

    physics: Physics
    replier: Replier
    card: Path
    level: str
    context_tokens: int
    slots: int
    die_after: int | None  # requests, then the process ends as if killed


class App:
    """Handlers and what they share."""

    def __init__(self, settings: Settings) -> None:
        self._settings = settings
        self._engine = Engine(settings.physics, settings.slots)
        self._loaded = False
        self._asked = 0
        self._tasks: list[asyncio.Task[None]] = []

    def build(self) -> web.Application:
        """The aiohttp application."""
        app = web.Application(client_max_size=32 * 2**20)
        app.router.add_get("/health", self._health)
        app.router.add_get("/v1/models", self._models)
        app.router.add_post("/v1/chat/completions", self._complete)
        app.router.add_post("/v1/completions", self._complete)
        app.on_startup.append(self._start)
        app.on_response_prepare.append(_name_server)
        return app

    async def _start(self, _: web.Application) -> None:
        self._tasks = [asyncio.create_task(self._load()), asyncio.create_task(self._engine.run())]

    async def _load(self) -> None:
        settings = self._settings
        need = settings.physics.memory_bytes(settings.context_tokens, settings.slots)
        for step in range(1, LOAD_STEPS + 1):
            await asyncio.sleep(settings.physics.load_s() / LOAD_STEPS)
            claim_bytes(settings.card, need * step // LOAD_STEPS)
        self._loaded = True
        print(f"loaded {settings.physics.model.name} (simulated): {need} bytes on the card", flush=True)

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
        self._asked += 1
        if self._settings.die_after is not None and self._asked > self._settings.die_after:
            print("simulated fault: the process dies", flush=True)
            os._exit(70)
        try:
            body = await request.json()
            is_chat = request.path.endswith("/chat/completions")
            prompt = "\n".join(str(m["content"]) for m in body["messages"]) if is_chat else str(body["prompt"])
            cap = int(body.get("max_tokens", 512))
        except (ValueError, KeyError, TypeError) as err:
            return _error(400, f"malformed request: {type(err).__name__}")
        prompt_tokens = len(tokens_of(prompt))
        if prompt_tokens + 1 > self._settings.context_tokens:
            return _error(400, f"{prompt_tokens} prompt tokens exceed the context of {self._settings.context_tokens}")
        cap = min(cap, self._settings.context_tokens - prompt_tokens)
        reply = self._settings.replier.reply(prompt, int(body.get("seed") or 0), is_chat=is_chat)
        pieces, reason = _pieces(reply, cap)
        stream = Stream(prompt_tokens=prompt_tokens, wanted_tokens=len(pieces))
        usage = {"prompt_tokens": prompt_tokens, "completion_tokens": len(pieces)}
        try:
            if body.get("stream"):
                return await self._stream(request, stream, pieces, reason, usage)
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
    ) -> web.StreamResponse:
        is_chat = request.path.endswith("/chat/completions")
        response = web.StreamResponse(headers={"Content-Type": "text/event-stream", "Cache-Control": "no-cache"})
        await response.prepare(request)
        self._engine.submit(stream)
        if is_chat:
            await response.write(_event({"delta": {"role": "assistant", "content": ""}}))
        for text, thinking in pieces:
            await stream.ready.get()
            delta = {"delta": {"reasoning_content" if thinking else "content": text}}
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


def _error(status: int, text: str) -> web.Response:
    return web.json_response({"error": {"message": text, "code": status}}, status=status)


async def _name_server(_: web.Request, response: web.StreamResponse) -> None:
    response.headers["Server"] = SERVER_NAME
