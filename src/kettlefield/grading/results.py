"""What a check found, and the frames in which the harness reports it: decoded before anything trusts them.

An answer shares its process with the harness, so it may find the nonce and write frames of its own. A frame of
another form than the harness writes is dropped; a value that JSON cannot hold becomes an ``Opaque``, which equals
nothing.
"""

import json
import math
from typing import Any

import msgspec

from kettlefield.core.outcome import CheckResult, RunEnd
from kettlefield.core.plaintext import last_lines, shorten, visible
from kettlefield.sandbox.job import RunLimits, RunReport
from kettlefield.suite.check_form import kind_name
from kettlefield.suite.format import Check, Limits

MAX_DEPTH = 160  # of a value: a little more than the harness writes
WORTH_SAYING_S = 1.0  # waited for a processor: less happens on any host
DETAIL_LIMIT = 600  # characters of a value or message kept for the reader
_NUMBERS = {"NaN": math.nan, "nan": math.nan, "Infinity": math.inf, "inf": math.inf}
_NUMBERS |= {f"-{name}": -value for name, value in _NUMBERS.items()}


class Opaque(msgspec.Struct, frozen=True):
    """A value that plain data cannot hold, in words."""

    words: str

    def __str__(self) -> str:
        return f"<{self.words}>"


class ErrorFrame(msgspec.Struct, frozen=True):
    """An error that the harness caught."""

    type: str
    message: str
    line: int | None = None
    kinds: tuple[str, ...] = ()  # its class and those it derives from
    module: str | None = None  # that could not be imported
    limit: str | None = None  # that was met

    @property
    def words(self) -> str:
        """In one line."""
        at = f" (line {self.line})" if self.line else ""
        return shorten(visible(f"{self.type}: {self.message}{at}", keep_lines=False), DETAIL_LIMIT)

    @property
    def end(self) -> RunEnd:
        """What it makes of the run."""
        if self.module is not None:
            return RunEnd.MISSING_MODULE
        return RunEnd.OVER_LIMIT if self.limit is not None else RunEnd.CRASHED


class StepFrame(msgspec.Struct, frozen=True):
    """What one method call gave."""

    value: Any = msgspec.UNSET
    error: ErrorFrame | None = None
    changed: int | None = None  # which of its arguments the call changed, from 1


class Frame(StepFrame, frozen=True):
    """One line of the harness."""

    case: int | None = None
    steps: tuple[StepFrame, ...] | None = None
    build: ErrorFrame | None = None  # it does not parse, or lacks what was asked for
    load: ErrorFrame | None = None  # it parses, and fails before anything is called


def lines_of(results: bytes, nonce: str) -> list[dict[str, Any]]:
    """The objects on lines with our nonce; anything else on the descriptor was written by somebody else."""
    records = []
    mark = f"{nonce} ".encode()
    for line in results.split(b"\n"):
        if line.startswith(mark):
            try:
                # not msgspec: halves of surrogate pairs are a property of the answer, and must come through
                record = json.loads(line[len(mark) :])
            except (ValueError, RecursionError):
                continue
            if isinstance(record, dict):
                records.append(record)
    return records


def frames_of(results: bytes, nonce: str) -> list[Frame]:
    """The harness's frames; one of another form is left out."""
    frames = []
    for record in lines_of(results, nonce):
        try:
            frames.append(msgspec.convert(record, Frame))
        except (msgspec.ValidationError, UnicodeError, RecursionError):
            continue
    return frames


def start_fault(frames: list[Frame]) -> tuple[RunEnd, str] | None:
    """Why the answer could not be built or loaded, if it could not."""
    for frame in frames:
        if frame.build is not None:
            return RunEnd.NO_BUILD, frame.build.words
        if frame.load is not None:
            return frame.load.end, frame.load.words
    return None


def plain_value(value: Any, depth: int = 0) -> Any:
    """A value as the answer gave it.

    The harness writes what JSON lacks as an object with one key that begins with ``$``, and a ``$`` at the start of
    an answer's own key as ``$$``.
    """
    if depth > MAX_DEPTH:
        return Opaque("nested too deeply")
    if isinstance(value, list):
        return [plain_value(item, depth + 1) for item in value]
    if not isinstance(value, dict):
        return value
    marks = [key for key in value if key.startswith("$") and not key.startswith("$$")]
    if marks:
        return _marked(value)
    return {key[key.startswith("$$") :]: plain_value(item, depth + 1) for key, item in value.items()}


def _marked(value: dict[str, Any]) -> Any:
    if len(value) == 1:
        ((mark, held),) = value.items()
        if mark == "$number" and isinstance(held, str) and held in _NUMBERS:
            return _NUMBERS[held]
        if mark == "$object" and isinstance(held, str):
            return Opaque(held)
        if mark == "$pairs":
            return Opaque(f"mapping {shorten(json.dumps(held), DETAIL_LIMIT)}")
    return Opaque("not a frame of the harness")


def show(value: Any) -> str:
    """A value as JSON, shortened and safe to show."""
    return shorten(visible(json.dumps(value, ensure_ascii=False, default=str), keep_lines=False), DETAIL_LIMIT)


class Picture(msgspec.Struct, frozen=True, kw_only=True):
    """What a page looked like when it was opened."""

    width: str  # "phone" or "desktop"
    png: bytes


class Finding(msgspec.Struct, frozen=True, kw_only=True):
    """What a run says of all cases: how it ended, how many agreed, the first fault."""

    end: RunEnd
    agreed: int
    detail: str = ""
    feedback: str = ""
    first_fault: int = 0  # number of the first case that failed, from 1; 0: none, or not by cases


def make_result(check: Check, finding: Finding, total: int, wall_s: float) -> CheckResult:
    """A finding as the result of its check; it passes when the run finished and every case agreed."""
    return CheckResult(
        name=check.name,
        kind=kind_name(check),
        required=check.required,
        weight=check.weight,
        passed=finding.end is RunEnd.FINISHED and finding.agreed == total,
        end=finding.end,
        cases_passed=finding.agreed,
        cases_total=total,
        detail=finding.detail,
        feedback=finding.feedback,
        wall_s=wall_s,
        first_fault=finding.first_fault,
    )


def to_limits(limits: Limits) -> RunLimits:
    """An exercise's limits in base units."""
    return RunLimits(wall_s=limits.wall, cpu_s=limits.cpu, memory_bytes=limits.memory, output_bytes=limits.output)


def stopped(report: RunReport) -> tuple[RunEnd, str] | None:
    """How the run was stopped from outside, if it was."""
    if report.rig_fault is not None:
        return RunEnd.RIG_FAULT, report.rig_fault
    if report.timed_out:
        waited = f", {report.waited_s:.1f} s of them without a processor" if report.waited_s >= WORTH_SAYING_S else ""
        return RunEnd.TIMED_OUT, f"still running after {report.wall_s:.1f} s{waited}"
    if report.over_limit is not None:
        return RunEnd.OVER_LIMIT, report.over_limit
    return None


def tail_of(report: RunReport) -> str:
    """The last that a run said on standard error, or its exit status."""
    tail = visible(last_lines(report.stderr.decode("utf-8", errors="replace"), 3))
    return shorten(tail, DETAIL_LIMIT) if tail else f"exit status {report.exit_status}, nothing on standard error"
