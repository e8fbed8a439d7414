"""The simulated inference server behind the common face: what it answers, when, and what it does to the card."""

import asyncio
import os
from collections.abc import AsyncIterator, Coroutine
from pathlib import Path
from typing import Any

import msgspec

from kettlefield import __version__
from kettlefield.demo.http_front import Answer, Asked, CallStart, Piece, RefusedError, TokenScore, TrueLog
from kettlefield.demo.simulated_engine import Engine, Quirks, Stream
from kettlefield.demo.simulated_models import Physics
from kettlefield.demo.simulated_replies import Replier, Reply, SimulatedJudge, tokens_of
from kettlefield.demo.simulated_scores import Made, simulated_next, simulated_scores
from kettlefield.demo.simulated_work import Calls, as_blocks, is_work
from kettlefield.rig.simulated_card import claim_bytes, report_work, used_bytes
from kettlefield.workspace.tools import PROBE_WISH, PROBED

REPORT_EVERY_S = 0.05
LOAD_STEPS = 10  # in which memory fills while the weights are read


class Settings(msgspec.Struct, frozen=True, kw_only=True):
    """How the simulated server was started."""

    physics: Physics
    replier: Replier
    judge: SimulatedJudge | None  # none: it does not judge
    card: Path
    level: str
    context_tokens: int
    slots: int
    quirks: Quirks


class SimulatedServer:
    """A backend that replies as a made-up model would, in the time that it would take."""

    def __init__(self, settings: Settings) -> None:
        self._settings = settings
        self._quirks = settings.quirks
        self._engine = Engine(settings.physics, settings.slots, settings.quirks)
        self._log = TrueLog(settings.quirks.true_log)
        self._leaked = 0
        self._told = (0, 0.0, False)
        self._loaded = False
        self._asked = 0
        self._streams: dict[int, tuple[Stream, str]] = {}  # by their answer; with how the prompt begins
        self.server_name = f"kettlefield-demo/{__version__} (simulated)"
        self.model_id = f"{settings.physics.model.name}@{settings.level}"

    @property
    def health(self) -> dict[str, Any] | None:
        """That it is simulated."""
        return {"simulated": True} if self._loaded else None

    def check_key(self, header: str | None) -> bool:
        """Whether the key is the wanted one."""
        return self._quirks.key is None or header == f"Bearer {self._quirks.key}"

    def work(self) -> list[Coroutine[Any, Any, None]]:
        """Loading, replying, telling the card."""
        return [self._load(), self._engine.run(), self._report()]

    def begin(self, asked: Asked) -> Answer:
        """Queue a reply, unless a quirk forbids it.

        Raises
        ------
        RefusedError
            The request is malformed or too long, or too many wait.
        """
        self._count_request()
        try:
            prompt = _prompt_of(asked)
            cap = int(asked.body.get("max_tokens", 512))
            seed = int(asked.body.get("seed") or 0)
        except (ValueError, TypeError) as err:
            raise RefusedError(400, f"malformed request: {type(err).__name__}") from err
        tokens = self._fitted(tokens_of(prompt))
        cap = min(cap, self._settings.context_tokens - len(tokens))
        judge = self._settings.judge
        calls: Calls = ()
        if asked.is_chat and is_work(asked.body, prompt):
            reply, calls = self._work(asked.body, prompt, seed)
        elif judge is not None and judge.is_asked(prompt):
            reply = Reply(judge.reply(prompt, seed))
        else:
            reply = self._settings.replier.reply(prompt, seed, is_chat=asked.is_chat)
        pieces, reason = _pieces(reply, calls, cap)
        stream = Stream(prompt=tokens, wanted_tokens=len(pieces))
        drawn = self._draw(stream, pieces)
        answer = Answer(prompt_tokens=len(tokens), pieces=drawn, finish=lambda: (len(pieces), reason))
        self._streams[id(answer)] = (stream, prompt)
        return answer

    @property
    def scored(self) -> str:
        """As the quirk says."""
        return self._quirks.log_probabilities

    def score(self, asked: Asked, top: int) -> list[TokenScore]:
        """How likely tokens would be; in no time, since nothing of it is timed.

        Raises
        ------
        RefusedError
            The prompt is no text, or longer than the context.
        """
        prompt = _prompt_of(asked)
        tokens = tokens_of(prompt)
        if len(tokens) > self._settings.context_tokens:
            raise RefusedError(400, f"{len(tokens)} tokens exceed the context of {self._settings.context_tokens}")
        model = self._settings.physics.model
        made = Made(name=model.name, ability=model.ability, frailty=model.frailty, bits=model.bits_per_weight)
        if self.scored == "next":
            return [simulated_next(tokens, made, top=top)]
        if self.scored == "prompt":
            return simulated_scores(tokens, made, top=top)
        reply = tokens_of(self._settings.replier.reply(prompt, 0).text)[: int(asked.number("max_tokens", 512))]
        return simulated_scores([*tokens, *reply], made, top=top)[len(tokens) :]

    def gauges(self) -> dict[str, float]:
        """Of the engine; the cache by the tokens in its slots."""
        held = sum(stream.depth_tokens for stream in self._engine.active)
        return {
            "requests_running": len(self._engine.active),
            "requests_waiting": self._engine.waiting,
            "cache_used_ratio": held / (self._settings.context_tokens * self._settings.slots),
        }

    def end(self, asked: Asked, answer: Answer) -> None:
        """Free the slot, and write down what really happened."""
        stream, beginning = self._streams.pop(id(answer))
        stream.dropped = True
        self._log.write(asked, answer, cached_tokens=stream.cached_tokens, prompt=beginning)

    def _count_request(self) -> None:
        self._asked += 1
        self._leaked += self._quirks.leak_bytes
        if self._quirks.busy_after is not None and self._engine.waiting >= self._quirks.busy_after:
            raise RefusedError(429, "too many requests are waiting", {"Retry-After": "1"})
        if self._quirks.die_after is not None and self._asked > self._quirks.die_after:
            print("simulated fault: the process dies", flush=True)
            os._exit(70)

    def _fitted(self, tokens: list[str]) -> list[str]:
        """The prompt as far as it fits the context, or what the quirk does where it does not."""
        window = self._settings.context_tokens
        if len(tokens) + 1 <= window:
            return tokens
        if self._quirks.past_window == "crash":
            print("simulated fault: the context overflows", flush=True)
            os._exit(71)
        if self._quirks.past_window == "refuse":
            raise RefusedError(400, f"{len(tokens)} prompt tokens exceed the context of {window}")
        return tokens[-(window - 1) :]

    def _work(self, body: dict[str, Any], prompt: str, seed: int) -> tuple[Reply, Calls]:
        """A turn of work in a repository, with its calls in the form in which they were asked for."""
        offered = frozenset(str(tool["function"]["name"]) for tool in body.get("tools") or ())
        if offered and self._quirks.tools == "refuse":
            raise RefusedError(400, "tools are not supported by this template")
        if offered and PROBE_WISH in prompt:
            call = ((PROBED.name, '{"path": "src"}'),)
            return (Reply("I cannot call tools."), ()) if self._quirks.tools == "ignore" else (Reply(""), call)
        turn = self._settings.replier.work(prompt, body["messages"], offered, seed)
        return (Reply(turn.text), turn.calls) if offered else (Reply(as_blocks(turn)), ())

    async def _draw(self, stream: Stream, pieces: list[Piece]) -> AsyncIterator[Piece]:
        self._tell_card()
        self._engine.submit(stream)
        for number, piece in enumerate(pieces, 1):
            await stream.ready.get()
            if number == len(pieces):
                self._tell_card()  # before the end is reported: whoever looks then sees the truth
            yield piece

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


def _prompt_of(asked: Asked) -> str:
    """All that was said before the reply, as one text."""
    body = asked.body
    try:
        prompt = "\n".join(map(_words_of, body["messages"])) if asked.is_chat else body["prompt"]
    except (KeyError, TypeError) as err:
        raise RefusedError(400, f"malformed request: {type(err).__name__}") from err
    if not isinstance(prompt, str) or not prompt:
        raise RefusedError(400, "malformed request: prompt is not text")
    return prompt


def _words_of(message: dict[str, Any]) -> str:
    """What a message says, the calls of functions in it too."""
    calls = [f"{one['function']['name']} {one['function']['arguments']}" for one in message.get("tool_calls") or ()]
    return "\n".join([str(message["content"]), *calls])


def others_bytes(card: Path) -> dict[int, int]:
    """What other processes use on the card, in bytes by process id."""
    return {pid: used for pid, used in used_bytes(card).items() if pid != os.getpid()}


def _pieces(reply: Reply, calls: Calls, cap: int) -> tuple[list[Piece], str]:
    """The reply token by token, calls last, and why it ends."""
    pieces = [Piece(text=piece, thinking=True) for piece in tokens_of(reply.thinking)]
    pieces += [Piece(text=piece) for piece in tokens_of(reply.text)]
    for index, (name, arguments) in enumerate(calls):
        for number, piece in enumerate(tokens_of(arguments)):
            call = CallStart(index=index, id=f"call-{index}", name=name, is_first=number == 0)
            pieces.append(Piece(text=piece, call=call))
    if reply.endless:
        ending = pieces[-24:]
        while len(pieces) <= cap:
            pieces += ending
    return (pieces[:cap], "length") if len(pieces) > cap else (pieces, "tool_calls" if calls else "stop")
