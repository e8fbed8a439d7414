"""What of a record is marked: every different answer once, whoever wrote it, without a word of whose it is."""

import hashlib
import json
from collections.abc import Mapping

import msgspec

from kettlefield.core.errors import InputError
from kettlefield.core.outcome import Outcome
from kettlefield.marking.scale import GENERAL_GUIDANCE
from kettlefield.record.store import Record
from kettlefield.results.rows import answer_rows, pictures_of, prompt_of
from kettlefield.suite.format import KINDS
from kettlefield.suite.typed_toml import nearest

MARKED_KINDS = ("explain", "page")  # that come with guidance of their own; others on demand


class Item(msgspec.Struct, frozen=True, kw_only=True):
    """One answer as it is shown to a marker."""

    digest: str
    exercise: str
    title: str
    kind: str
    guidance: str
    prompt: str
    files: Mapping[str, str]
    pictures: Mapping[str, bytes]  # of a page: width -> PNG
    trials: tuple[int, ...]  # whose last attempt it is
    passed: bool  # its checks
    score: float  # their weighted share

    @property
    def length_chars(self) -> int:
        """Of all its files."""
        return sum(map(len, self.files.values()))


def kinds_of(words: str | None) -> tuple[str, ...]:
    """The kinds that a comma-separated option names; none: those with guidance of their own.

    Raises
    ------
    InputError
        There is no such kind.
    """
    if words is None:
        return MARKED_KINDS
    if words == "all":
        return KINDS
    kinds = tuple(word.strip() for word in words.split(","))
    unknown = next((kind for kind in kinds if kind not in KINDS), None)
    if unknown is not None:
        raise InputError(f'there is no kind "{unknown}"', "--kinds", nearest(unknown, [*KINDS, "all"]))
    return kinds


def items_of(record: Record, kinds: tuple[str, ...]) -> tuple[Item, ...]:
    """Every different answer to exercises of some kinds, in the record's order.

    Trials that ended in a fault of server or rig, and replies without an answer, have nothing to be marked.
    """
    items: dict[str, Item] = {}
    trials: dict[str, list[int]] = {}
    for row in answer_rows(record, kinds):
        digest = item_digest(row.exercise.id, row.files)
        if not row.files:
            continue
        trials.setdefault(digest, []).append(row.trial)
        if digest not in items:
            items[digest] = Item(
                digest=digest,
                exercise=row.exercise.id,
                title=row.exercise.title,
                kind=row.exercise.kind,
                guidance=row.exercise.guidance or GENERAL_GUIDANCE,
                prompt=prompt_of(record, row.exchange),
                files=row.files,
                pictures=pictures_of(record, row.attempt),
                trials=(),
                passed=row.outcome is Outcome.PASSED,
                score=row.score,
            )
    return tuple(msgspec.structs.replace(item, trials=tuple(trials[digest])) for digest, item in items.items())


def item_digest(exercise: str, files: Mapping[str, str]) -> str:
    """What tells one answer from another: the exercise and every file of the answer."""
    return hashlib.sha256(json.dumps([exercise, sorted(files.items())]).encode()).hexdigest()
