"""What a run is to do: of the whole plan, of one candidate, and what is left of it; what it came to."""

import math
import time
from concurrent.futures import ThreadPoolExecutor

import msgspec

from kettlefield.campaign.measuring import PARTS
from kettlefield.campaign.registering import Registered
from kettlefield.campaign.trial_runner import Due
from kettlefield.campaign.turns import Turn
from kettlefield.core.units import Duration
from kettlefield.plan.candidates import Candidate


class Tally(msgspec.Struct, kw_only=True):
    """What one run of the conductor came to."""

    trials: int = 0  # put into the record by this run
    faults: int = 0  # of them, ended in a fault of server or rig
    troubles: list[str] = msgspec.field(default_factory=list)  # candidates that could not be measured


class Scope(msgspec.Struct, frozen=True, kw_only=True):
    """What of the plan is to be run."""

    candidates: frozenset[str]
    exercises: frozenset[str]
    parts: frozenset[str] = frozenset(PARTS)
    within_s: float | None = None  # that one candidate may take; none: as long as it needs
    complete: bool = False  # ask everything, also where candidates stop when they are decided


class Left(msgspec.Struct, frozen=True, kw_only=True):
    """What is still to be done for one candidate in one block."""

    pending: list[Due]
    steps: tuple[str, ...]  # procedures
    cold_load: bool

    @property
    def is_empty(self) -> bool:
        """Whether nothing is."""
        return not (self.pending or self.steps or self.cold_load)


class Died(msgspec.Struct, frozen=True, kw_only=True):
    """A server's process that ended by itself."""

    words: str
    during: str  # phase


class Work(msgspec.Struct, frozen=True, kw_only=True):
    """What is to be done for one candidate in one block."""

    registered: Registered
    scope: Scope
    share: float  # of all trials and timed requests that are to be in the record after this block
    threads: ThreadPoolExecutor  # that grade
    ask_until_s: float = math.inf  # on the monotonic clock: then nothing more is asked
    turn: Turn | None = None  # blocks that may be asked; none: the campaign has none

    @property
    def is_over(self) -> bool:
        """Whether the time for asking is over."""
        return time.monotonic() >= self.ask_until_s


def within_time(candidate: Candidate, work: Work) -> Candidate:
    """The candidate with no more time for its timing than the run has left."""
    left_s = work.ask_until_s - time.monotonic()
    if left_s >= candidate.speed.budget:
        return candidate
    speed = msgspec.structs.replace(candidate.speed, budget=Duration(max(0.0, left_s)))
    return msgspec.structs.replace(candidate, speed=speed)
