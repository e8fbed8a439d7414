"""The little model behind the common HTTP face."""

from collections.abc import AsyncIterator, Coroutine
from pathlib import Path
from typing import Any

import msgspec
import numpy as np

from kettlefield import __version__
from kettlefield.demo.http_front import Answer, Asked, Piece, RefusedError, TokenScore, TrueLog
from kettlefield.demo.little.little_weights import Weights
from kettlefield.demo.little.network import Cache, CacheBits, Network, Sampling
from kettlefield.demo.little.slots import BROKEN, Engine, Stream, make_stream
from kettlefield.demo.little.tokens import END, ROLES, OutsideVocabularyError, Tokenizer

CAP_TOKENS = 256  # where a request names none
MOST_STOPS = 16


class LittleServer:
    """A backend that replies with what the weights really say."""

    def __init__(
        self,
        weights: Weights,
        *,
        context_tokens: int,
        slots: int,
        bits: CacheBits,
        keep_prompts: bool,
        true_log: Path | None = None,
    ) -> None:
        self._log = TrueLog(true_log)
        self._tokenizer = Tokenizer(weights.vocabulary)
        self._longest_piece = max(map(len, self._tokenizer.pieces))
        self._context_tokens = context_tokens
        self._bits = bits
        self._streams: dict[int, Stream] = {}
        self.engine = Engine(
            Network(weights),
            self._tokenizer.pieces,
            end=self._tokenizer.number[END],
            slots=slots,
            context_tokens=context_tokens,
            bits=bits,
            keep_prompts=keep_prompts,
        )
        self.server_name = f"kettlefield-little/{__version__}"
        self.model_id = f"{weights.name}@{weights.level}"
        self.health: dict[str, Any] | None = {"concurrency": slots, "context_tokens": context_tokens, "kv_bits": bits}

    def check_key(self, header: str | None) -> bool:
        """Everybody on this machine may ask."""
        del header
        return True

    def work(self) -> list[Coroutine[Any, Any, None]]:
        """The engine."""
        return [self.engine.run()]

    def begin(self, asked: Asked) -> Answer:
        """Queue a reply.

        Raises
        ------
        RefusedError
            The request is malformed, longer than the context, or written in characters that have no token.
        """
        try:
            prompt = self._chat(asked.body) if asked.is_chat else self._text(asked.body)
        except OutsideVocabularyError as err:
            raise RefusedError(400, str(err)) from err
        room = self._context_tokens - len(prompt)
        if room < 1:
            raise RefusedError(400, f"{len(prompt)} prompt tokens exceed the context of {self._context_tokens}")
        cap = int(asked.number("max_tokens", CAP_TOKENS))
        if cap < 1:
            raise RefusedError(400, f"max_tokens is {cap}, out of its range")
        stream = make_stream(prompt, min(cap, room), _sampling(asked.body), _stops(asked.body))
        finish = lambda: (len(stream.written), stream.reason)  # noqa: E731 - a closure over one value
        answer = Answer(prompt_tokens=len(prompt), pieces=self._draw(stream), finish=finish)
        self._streams[id(answer)] = stream
        return answer

    scored = "prompt"

    def score(self, asked: Asked, top: int) -> list[TokenScore]:
        """How likely each token of a prompt is after those before it.

        Raises
        ------
        RefusedError
            The prompt is no text, longer than the context, or written in characters that have no token.
        """
        try:
            prompt = self._text(asked.body)
        except OutsideVocabularyError as err:
            raise RefusedError(400, str(err)) from err
        if len(prompt) > self._context_tokens:
            raise RefusedError(400, f"{len(prompt)} prompt tokens exceed the context of {self._context_tokens}")
        pieces = self._tokenizer.pieces
        cache = Cache(self.engine.network.shape, len(prompt), self._bits)
        scores = self.engine.network.score(cache, prompt).astype(np.float64)
        logprobs = scores - np.logaddexp.reduce(scores, axis=1, keepdims=True)
        found = [TokenScore(text=pieces[prompt[0]], logprob=None, top=None)]
        for place, token in enumerate(prompt[1:]):
            best = np.argsort(-logprobs[place])[:top]
            listed = {pieces[number]: float(logprobs[place, number]) for number in best}
            found.append(TokenScore(text=pieces[token], logprob=float(logprobs[place, token]), top=listed))
        return found

    def gauges(self) -> dict[str, float]:
        """Of the engine."""
        return self.engine.gauges

    def end(self, asked: Asked, answer: Answer) -> None:
        """Free the slot, and write down what really happened."""
        stream = self._streams.pop(id(answer))
        stream.dropped = True
        said = asked.body["messages"][-1]["content"] if asked.is_chat else asked.body["prompt"]
        self._log.write(asked, answer, cached_tokens=stream.cached_tokens, prompt=said)

    async def _draw(self, stream: Stream) -> AsyncIterator[Piece]:
        self.engine.submit(stream)
        while (text := await stream.pieces.get()) is not None:
            yield Piece(text=text)
        if stream.reason == BROKEN:
            raise RefusedError(500, "the weights are damaged: they give scores that are not numbers")

    def _chat(self, body: dict[str, Any]) -> list[int]:
        """Each message behind its role's mark; marks that somebody typed are plain text."""
        messages = body.get("messages")
        if not isinstance(messages, list) or not messages:
            raise RefusedError(400, "malformed request: messages is not a list of messages")
        tokens: list[int] = []
        for message in messages:
            role = message.get("role") if isinstance(message, dict) else None
            if role not in ROLES or not isinstance(message.get("content"), str):
                raise RefusedError(400, "malformed request: a message needs a known role and a text as content")
            tokens.append(self._tokenizer.number[ROLES[role]])
            tokens += self._encode(message["content"])
        return [*tokens, self._tokenizer.number[ROLES["assistant"]]]

    def _text(self, body: dict[str, Any]) -> list[int]:
        """A text to be continued, or one with a gap between its infill marks."""
        if not isinstance(body.get("prompt"), str) or not body["prompt"]:
            raise RefusedError(400, "malformed request: prompt is not text")
        return self._encode(body["prompt"], marks=True)

    def _encode(self, text: str, *, marks: bool = False) -> list[int]:
        """Tokens of a text; one that can never fit is refused unread, since others would wait meanwhile."""
        if len(text) > self._context_tokens * self._longest_piece:
            raise RefusedError(400, f"{len(text)} characters exceed the context of {self._context_tokens} tokens")
        return self._tokenizer.encode(text, marks=marks)


def _sampling(body: dict[str, Any]) -> Sampling:
    given = {name: body[name] for name in Sampling.__struct_fields__ if body.get(name) is not None}
    try:
        settings = msgspec.convert(given, Sampling)
    except msgspec.ValidationError as err:
        raise RefusedError(400, f"malformed request: {err}") from err
    fault = settings.fault()
    if fault is not None:
        raise RefusedError(400, fault)
    return settings


def _stops(body: dict[str, Any]) -> list[str]:
    stops = body.get("stop")
    words = [stops] if isinstance(stops, str) else stops or []
    if not isinstance(words, list) or len(words) > MOST_STOPS or not all(isinstance(word, str) for word in words):
        raise RefusedError(400, f"malformed request: stop is not text or list of up to {MOST_STOPS} texts")
    return words
