"""The engine: slots that share one card, a step at a time."""

import asyncio
import itertools
import time
from collections import deque
from dataclasses import dataclass, field

from kettlefield.demo.quirks import Pace, Quirks
from kettlefield.demo.simulated_models import Physics


@dataclass(slots=True, kw_only=True)
class Stream:
    """One request in the engine; an item in ``ready`` stands for one token."""

    prompt: list[str]  # its tokens
    wanted_tokens: int
    made_tokens: int = 0
    cached_tokens: int = 0
    dropped: bool = False
    ready: asyncio.Queue[bool] = field(default_factory=asyncio.Queue)

    @property
    def depth_tokens(self) -> int:
        """Tokens in its context by now."""
        return len(self.prompt) + self.made_tokens


class Engine:
    """Prefills and decodes in the time that the physics says."""

    def __init__(self, physics: Physics, slots: int, quirks: Quirks) -> None:
        self._physics = physics
        self._slots = slots
        self._quirks = quirks
        self._pace = Pace(quirks)
        self._waiting: deque[Stream] = deque()
        self._active: list[Stream] = []
        self._last: deque[list[str]] = deque(maxlen=slots)  # prompts whose cache is still there
        self._work = asyncio.Event()
        self.joules = 0.0
        self.most_depth_tokens = 0

    @property
    def waiting(self) -> int:
        """Requests that have no slot yet."""
        return len(self._waiting)

    @property
    def throttled(self) -> bool:
        """Whether the card is too warm by now."""
        return self._pace.throttled

    def submit(self, stream: Stream) -> None:
        """Queue a request; its tokens arrive in ``stream.ready``."""
        self._waiting.append(stream)
        self._work.set()

    async def run(self) -> None:
        """Work for ever."""
        clock_s = time.perf_counter()
        while True:
            if not self._active and not self._waiting:
                self._work.clear()
                await self._work.wait()
                clock_s = time.perf_counter()
            clock_s = await self._admit(clock_s)
            self._active = [stream for stream in self._active if not stream.dropped]
            if self._active:
                step_s = self._physics.step_s([stream.depth_tokens for stream in self._active])
                clock_s += self._worked(step_s)
                await _sleep_until(clock_s)
                self._emit()

    async def _admit(self, clock_s: float) -> float:
        """Give free slots to waiting requests; their prefill holds the card up for everybody."""
        while self._waiting and len(self._active) < self._slots:
            stream = self._waiting.popleft()
            if stream.dropped:
                continue
            stream.cached_tokens = self._cached(stream.prompt)
            clock_s += self._worked(self._physics.prefill_s(len(stream.prompt) - stream.cached_tokens))
            await _sleep_until(clock_s)
            self._active.append(stream)
        return clock_s

    def _cached(self, prompt: list[str]) -> int:
        """Tokens at its beginning that need no reading; the last one always does."""
        if not self._quirks.prompt_cache:
            return 0
        common = [
            sum(1 for _ in itertools.takewhile(lambda pair: pair[0] == pair[1], zip(prompt, old, strict=False)))
            for old in self._last
        ]
        self._last.append(prompt)
        return min(max(common, default=0), len(prompt) - 1)

    def _worked(self, seconds: float) -> float:
        stretched = self._pace.stretch(seconds)
        self.joules += stretched * self._physics.card.busy_w
        return stretched

    def _emit(self) -> None:
        for stream in self._active:
            stream.made_tokens += 1
            stream.ready.put_nowait(True)
        self.most_depth_tokens = max(self.most_depth_tokens, sum(stream.depth_tokens for stream in self._active))
        self._active = [stream for stream in self._active if stream.made_tokens < stream.wanted_tokens]


async def _sleep_until(moment_s: float) -> None:
    # event loops sleep in whole milliseconds; the clock is kept apart, so the error does not add up
    await asyncio.sleep(max(0.0, moment_s - time.perf_counter()))
