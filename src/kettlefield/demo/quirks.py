"""What else a simulated server does, each told by an option, so that every procedure has something true to find."""

import argparse
import random
from dataclasses import dataclass
from pathlib import Path

PAST_WINDOW = ("refuse", "cut", "crash")


@dataclass(frozen=True, slots=True, kw_only=True)
class Quirks:
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
    true_log: Path | None = None  # one line of JSON a request with the moments at which it was really served


def add_quirks(parser: argparse.ArgumentParser) -> None:
    """Add an option for each."""
    parser.add_argument("--die-after", type=int, help="fault for tests: end after so many requests")
    parser.add_argument("--prompt-cache", action="store_true")
    parser.add_argument("--leak-bytes", type=int, default=0, help="lost on the card at every request")
    parser.add_argument("--throttle-after", type=float, dest="throttle_after_s", help="seconds of work")
    parser.add_argument("--throttle-factor", type=float, default=1.0)
    parser.add_argument("--noise", type=float, default=0.0, help="relative spread of a step's time")
    parser.add_argument("--past-window", choices=PAST_WINDOW, default="refuse")
    parser.add_argument("--cache-on-demand", action="store_true")
    parser.add_argument("--busy-after", type=int, help="requests waiting, then 429")
    parser.add_argument("--key", help="wanted of every request, as `Authorization: Bearer KEY`")
    parser.add_argument("--true-log", type=Path)


def read_quirks(args: argparse.Namespace) -> Quirks:
    """The options as one record."""
    return Quirks(**{name: getattr(args, name) for name in Quirks.__dataclass_fields__})


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
