"""The simulated engine: requests that share one card, a step at a time; and the quirks that options switch on."""

import argparse
import asyncio
import itertools
import random
import time
from collections import deque
from pathlib import Path

import msgspec

from kettlefield.demo.http_front import SCORED
from kettlefield.demo.simulated_models import Physics

TOOL_FORMS = ("call", "ignore", "refuse")
PAST_WINDOW = ("refuse", "cut", "crash")


class Quirks(msgspec.Struct, frozen=True, kw_only=True):
    """Set for one run of the server; all off by default."""

    die_after: int | None = None  # requests, then the process ends as if killed
    prompt_cache: bool = False  # a prompt that begins as the one before in its slot is not read again
    leak_bytes: int = 0  # lost on the card at every request
    throttle_after_s: float | None = None  # of work, then everything takes longer
    throttle_factor: float = 1.0
    noise: float = 0.0  # relative spread of a step's time
    past_window: str = "refuse"  # what a prompt beyond the context does
    cache_on_demand: bool = False  # the key/value cache is claimed as contexts fill, and may not fit
    busy_after: int | None = None  # requests waiting, then 429
    key: str | None = None  # without it in the Authorization header, 401
    log_probabilities: str = "prompt"  # the one way in which it tells them
    tools: str = "call"  # what becomes of functions that are offered
    true_log: Path | None = None  # one line of JSON a request with the moments at which it was really served


def add_quirks(parser: argparse.ArgumentParser) -> None:
    """Add an option for each."""
    parser.add_argument("--die-after", type=int, help="fault for tests: end after this many requests")
    parser.add_argument("--prompt-cache", action="store_true")
    parser.add_argument("--leak-bytes", type=int, default=0, help="lost on the card at every request")
    parser.add_argument("--throttle-after", type=float, dest="throttle_after_s", help="seconds of work")
    parser.add_argument("--throttle-factor", type=float, default=1.0)
    parser.add_argument("--noise", type=float, default=0.0, help="relative spread of a step's time")
    parser.add_argument("--past-window", choices=PAST_WINDOW, default="refuse")
    parser.add_argument("--cache-on-demand", action="store_true")
    parser.add_argument("--busy-after", type=int, help="requests waiting, then 429")
    parser.add_argument("--key", help="wanted of every request, as `Authorization: Bearer KEY`")
    parser.add_argument("--log-probabilities", choices=(*SCORED, "none"), default="prompt")
    parser.add_argument("--tools", choices=TOOL_FORMS, default="call", help="what becomes of offered functions")
    parser.add_argument("--true-log", type=Path)


def read_quirks(args: argparse.Namespace) -> Quirks:
    """The options as one record."""
    return Quirks(**{name: getattr(args, name) for name in Quirks.__struct_fields__})


class Pace:
    """Stretches the time of the engine's work by noise and throttling."""

    def __init__(self, quirks: Quirks) -> None:
        self._quirks = quirks
        self._rng = random.Random(7)
        self._worked_s = 0.0

    @property
    def throttled(self) -> bool:
        """Whether the card is too warm by now."""
        after = self._quirks.throttle_after_s
        return after is not None and self._worked_s >= after

    def stretch(self, seconds: float) -> float:
        """How long the work takes in truth."""
        if self.throttled:
            seconds *= self._quirks.throttle_factor
        if self._quirks.noise:
            seconds *= max(0.2, self._rng.gauss(1, self._quirks.noise))
        self._worked_s += seconds
        return seconds


class Stream(msgspec.Struct, kw_only=True):
    """One request in the engine; an item in ``ready`` stands for one token."""

    prompt: list[str]  # its tokens
    wanted_tokens: int
    made_tokens: int = 0
    cached_tokens: int = 0
    dropped: bool = False
    ready: asyncio.Queue[bool] = msgspec.field(default_factory=asyncio.Queue)

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
    def active(self) -> tuple[Stream, ...]:
        """Requests that have a slot."""
        return tuple(self._active)

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
