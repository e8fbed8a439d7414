"""Slots that share one network: all that are busy go through each matrix together, a step at a time."""

import asyncio
from collections import deque
from collections.abc import Sequence

import msgspec
import numpy as np

from kettlefield.demo.little.network import Cache, CacheBits, Network, Sampler, Sampling
from kettlefield.demo.little.tokens import StopWords

CHUNK_TOKENS = 96  # of a prompt read in one step, so that others are not held up for long
BROKEN = "error"  # why a reply ended whose scores are not numbers: the weights are damaged


class Stream(msgspec.Struct, kw_only=True):
    """One request; ``pieces`` brings its text, then None."""

    prompt: Sequence[int]
    cap_tokens: int
    sampler: Sampler
    stops: StopWords
    written: list[int] = msgspec.field(default_factory=list)
    reason: str = "stop"
    cached_tokens: int = 0
    dropped: bool = False
    pieces: "asyncio.Queue[str | None]" = msgspec.field(default_factory=asyncio.Queue)


class Slot(msgspec.Struct):
    """A memory, what it holds, and who uses it."""

    cache: Cache
    held: list[int] = msgspec.field(default_factory=list)  # the tokens whose keys and values are in the cache
    stream: Stream | None = None

    def next_tokens(self) -> Sequence[int]:
        """What its stream reads in the next step."""
        if self.stream is None:
            return ()
        unread = self.stream.prompt[len(self.held) :]
        return unread[:CHUNK_TOKENS] if unread else self.stream.written[-1:]


def make_stream(prompt: Sequence[int], cap_tokens: int, settings: Sampling, stops: Sequence[str]) -> Stream:
    """A request that is ready to be submitted."""
    return Stream(prompt=prompt, cap_tokens=cap_tokens, sampler=Sampler(settings), stops=StopWords(stops))


class Engine:
    """Reads prompts and writes replies."""

    def __init__(
        self,
        network: Network,
        pieces: Sequence[str],
        *,
        end: int,
        slots: int,
        context_tokens: int,
        bits: CacheBits,
        keep_prompts: bool,
    ) -> None:
        self.network = network
        self._pieces = pieces  # text of each token
        self._end = end  # the token that ends a reply
        self._slots = [Slot(Cache(network.shape, context_tokens, bits)) for _ in range(slots)]
        self._keep_prompts = keep_prompts
        self._context_tokens = context_tokens
        self._waiting: deque[Stream] = deque()
        self._work = asyncio.Event()

    @property
    def kv_bytes(self) -> int:
        """What all slots' memories take."""
        return sum(slot.cache.size_bytes for slot in self._slots)

    @property
    def gauges(self) -> dict[str, float]:
        """How many requests run and wait, and what share of all slots' memories is in use."""
        running = [slot for slot in self._slots if slot.stream is not None]
        return {
            "requests_running": len(running),
            "requests_waiting": len(self._waiting),
            "cache_used_ratio": sum(len(slot.held) for slot in running) / (self._context_tokens * len(self._slots)),
        }

    def submit(self, stream: Stream) -> None:
        """Queue a request."""
        self._waiting.append(stream)
        self._work.set()

    async def run(self) -> None:
        """Work for ever."""
        while True:
            if not self.step():
                self._work.clear()
                await self._work.wait()
            await asyncio.sleep(0)  # what was written is sent before the next step begins

    def step(self) -> bool:
        """One step of all busy slots; False when there is nothing to do."""
        self._admit()
        busy = [slot for slot in self._slots if slot.stream is not None]
        if not busy:
            return False
        feeds = [slot.next_tokens() for slot in busy]
        scores = self.network.advance([(slot.cache, feed) for slot, feed in zip(busy, feeds, strict=True)])
        for slot, feed, row in zip(busy, feeds, scores, strict=True):
            slot.held += feed
            stream = slot.stream
            if stream is not None and len(slot.held) >= len(stream.prompt):
                if np.isfinite(row).all():
                    self._write(stream, stream.sampler.pick(row, stream.written))
                else:
                    self._close(stream, BROKEN, "")
        return True

    def _admit(self) -> None:
        for slot in self._slots:
            if slot.stream is not None and slot.stream.dropped:
                slot.stream = None
        while self._waiting and any(slot.stream is None for slot in self._slots):
            stream = self._waiting.popleft()
            if not stream.dropped:
                self._seat(stream)

    def _seat(self, stream: Stream) -> None:
        """Give a stream the free slot that remembers most of its prompt."""
        free = [slot for slot in self._slots if slot.stream is None]
        common = [_common(slot.held, stream.prompt) if self._keep_prompts else 0 for slot in free]
        best = max(range(len(free)), key=common.__getitem__)
        slot, kept = free[best], min(common[best], len(stream.prompt) - 1)  # the last one is always read again
        slot.stream, slot.held, slot.cache.length = stream, list(stream.prompt[:kept]), kept
        stream.cached_tokens = kept

    def _write(self, stream: Stream, token: int) -> None:
        if token == self._end:
            self._close(stream, "stop", stream.stops.rest())
            return
        stream.written.append(token)
        text, stopped = stream.stops.add(self._pieces[token])
        if stopped:
            self._close(stream, "stop", text)
        elif len(stream.written) >= stream.cap_tokens:
            self._close(stream, "length", text + stream.stops.rest())
        elif text:
            stream.pieces.put_nowait(text)

    def _close(self, stream: Stream, reason: str, text: str) -> None:
        if text:
            stream.pieces.put_nowait(text)
        stream.reason = reason
        stream.pieces.put_nowait(None)
        for slot in self._slots:
            if slot.stream is stream:
                slot.stream = None


def _common(held: Sequence[int], prompt: Sequence[int]) -> int:
    """How many tokens two texts share before they part."""
    differ = (at for at, (a, b) in enumerate(zip(held, prompt, strict=False)) if a != b)
    return next(differ, min(len(held), len(prompt)))
