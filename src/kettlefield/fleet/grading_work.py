"""What a worker labelled ``grader`` does: it says what it grades with, and grades replies that rigs send it.

As with a rig's part, only names of these functions and plain data cross the network. The suites that a job names are
read in the worker's present folder or are built in.
"""

import threading
from functools import lru_cache
from pathlib import Path

import msgspec

from kettlefield import __version__
from kettlefield.campaign.readiness import grading_tools, machine_id, prepare_grading
from kettlefield.core.errors import KettlefieldError, RigError
from kettlefield.grading.grader import Grade, Grader
from kettlefield.plan.suite_selection import Asked, asked_of
from kettlefield.plan.tables import SuiteTable
from kettlefield.sandbox.isolation import Isolation, NoIsolation
from kettlefield.sandbox.runner import available_isolation
from kettlefield.suite.format import Exercise

_MOST_CAMPAIGNS = 4  # that a worker keeps ready
_one_at_a_time = threading.Lock()


class Graded(msgspec.Struct, frozen=True, kw_only=True):
    """Of which campaign replies are graded, and how."""

    suites: tuple[SuiteTable, ...]
    suite_digest: str
    unsafe: bool


class Reply(msgspec.Struct, frozen=True, kw_only=True):
    """One reply to be graded."""

    of: Graded
    exercise: str
    text: str
    cap_hit: bool
    turn: int
    earlier: dict[str, str] | None  # the model's own files of the turn before
    continued: bool


class GraderAnswer(msgspec.Struct, frozen=True, kw_only=True):
    """What a worker says of itself as a grader."""

    version: str
    fault: str = ""  # why it cannot grade; empty: it can
    machine: str = ""
    isolation: str = ""
    tools: dict[str, str] = {}


def look_as_grader(data: bytes) -> bytes:
    """Say what this worker grades with, after making sure that it can."""
    graded = msgspec.msgpack.decode(data, type=Graded)
    try:
        ready = _ready(data)
        if ready.asked.digest != graded.suite_digest:
            raise RigError("it has another state of the suite", "grader", "Copy the same there.")
    except (KettlefieldError, OSError) as err:
        return msgspec.msgpack.encode(GraderAnswer(version=__version__, fault=str(err)))
    answer = GraderAnswer(
        version=__version__,
        machine=machine_id(),
        isolation=ready.grader.isolation.name,
        tools=grading_tools(ready.asked),
    )
    return msgspec.msgpack.encode(answer)


def grade(data: bytes) -> bytes:
    """Grade one reply."""
    reply = msgspec.msgpack.decode(data, type=Reply)
    ready = _ready(msgspec.msgpack.encode(reply.of))
    grade_of = ready.grader.grade_reply(
        ready.exercises[reply.exercise],
        reply.text,
        cap_hit=reply.cap_hit,
        turn=reply.turn,
        earlier=reply.earlier,
        continued=reply.continued,
    )
    return msgspec.msgpack.encode(msgspec.structs.replace(grade_of, by=_own_name()))


def decode_grade(data: bytes) -> Grade:
    """A grade as it came."""
    return msgspec.msgpack.decode(data, type=Grade)


def _own_name() -> str:
    from distributed import get_worker  # noqa: PLC0415 - only a worker has it

    return str(get_worker().name)


class _Ready:
    """A campaign whose replies can be graded here."""

    def __init__(self, graded: Graded) -> None:
        isolation: Isolation = NoIsolation() if graded.unsafe else available_isolation()
        self.grader = Grader(isolation)
        asked = asked_of(graded.suites, Path.cwd(), "grader")
        self.asked: Asked = asked.settled(self.grader)
        prepare_grading(self.grader, self.asked)
        self.exercises: dict[str, Exercise] = {exercise.id: exercise for exercise in self.asked.exercises}


def _ready(data: bytes) -> _Ready:
    with _one_at_a_time:  # many replies come at once, and the first makes it ready for all
        return _made_ready(data)


@lru_cache(maxsize=_MOST_CAMPAIGNS)
def _made_ready(data: bytes) -> _Ready:
    return _Ready(msgspec.msgpack.decode(data, type=Graded))
