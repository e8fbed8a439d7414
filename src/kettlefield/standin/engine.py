"""The engine: slots that share one card, a step at a time."""

import asyncio
import time
from collections import deque
from dataclasses import dataclass, field

from kettlefield.standin.physics import Physics


@dataclass(slots=True, kw_only=True)
class Stream:
    """One request in the engine; an item in ``ready`` stands for one token, None for the end."""

    prompt_tokens: int
    wanted_tokens: int
    made_tokens: int = 0
    dropped: bool = False
    ready: asyncio.Queue[bool] = field(default_factory=asyncio.Queue)


class Engine:
    """Prefills and decodes in the time that the physics says."""

    def __init__(self, physics: Physics, slots: int) -> None:
        self._physics = physics
        self._slots = slots
        self._waiting: deque[Stream] = deque()
        self._active: list[Stream] = []
        self._work = asyncio.Event()

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
                clock_s += self._physics.step_s([s.prompt_tokens + s.made_tokens for s in self._active])
                await _sleep_until(clock_s)
                self._emit()

    async def _admit(self, clock_s: float) -> float:
        """Give free slots to waiting requests; their prefill holds the card up for everybody."""
        while self._waiting and len(self._active) < self._slots:
            stream = self._waiting.popleft()
            if stream.dropped:
                continue
            clock_s += self._physics.prefill_s(stream.prompt_tokens)
            await _sleep_until(clock_s)
            self._active.append(stream)
        return clock_s

    def _emit(self) -> None:
        for stream in self._active:
            stream.made_tokens += 1
            stream.ready.put_nowait(True)
        self._active = [stream for stream in self._active if stream.made_tokens < stream.wanted_tokens]


async def _sleep_until(moment_s: float) -> None:
    # event loops sleep in whole milliseconds; the clock is kept apart, so the error does not add up
    await asyncio.sleep(max(0.0, moment_s - time.perf_counter()))
