"""What the harness writes over the private descriptor: one frame a line, decoded before anything trusts it.

An answer shares its process with the harness, so it may find the nonce and write frames of its own. A frame of
another form than the harness writes is dropped; a value that JSON cannot hold becomes an ``Opaque``, which equals
nothing.
"""

import json
import math
from dataclasses import dataclass
from typing import Any

import msgspec

from kettlefield.core.outcome import RunEnd
from kettlefield.core.plaintext import shorten, visible

MAX_DEPTH = 160  # of a value: a little more than the harness writes
DETAIL_LIMIT = 600  # characters of a value or message kept for the reader
_NUMBERS = {"NaN": math.nan, "nan": math.nan, "Infinity": math.inf, "inf": math.inf}
_NUMBERS |= {f"-{name}": -value for name, value in _NUMBERS.items()}


@dataclass(frozen=True, slots=True)
class Opaque:
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


class Frame(StepFrame, frozen=True):
    """One line of the harness."""

    case: int | None = None
    steps: tuple[StepFrame, ...] | None = None
    build: ErrorFrame | None = None  # it does not parse, or lacks what was asked for
    load: ErrorFrame | None = None  # it parses, and fails before anything is called


def lines_of(results: bytes, nonce: str) -> list[dict[str, Any]]:
    """The objects on lines with our nonce; anything else on the descriptor was written by somebody else."""
    found = []
    mark = f"{nonce} ".encode()
    for line in results.split(b"\n"):
        if line.startswith(mark):
            try:
                # not msgspec: halves of surrogate pairs are a property of the answer, and must come through
                record = json.loads(line[len(mark) :])
            except (ValueError, RecursionError):
                continue
            if isinstance(record, dict):
                found.append(record)
    return found


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
