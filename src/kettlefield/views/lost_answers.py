"""Exercises that a level lost against its reference: both answers side by side, and the case that failed."""

import difflib
from collections.abc import Iterator, Mapping, Sequence
from typing import Any

import pandas as pd

from kettlefield.core.outcome import Outcome
from kettlefield.record.store import Record
from kettlefield.results.comparison import Figures
from kettlefield.results.rows import open_trial
from kettlefield.views.parts import Compared, Lost, LostAnswer, cut

MOST_LOST = 60  # pairs of answers that a page shows
ANSWER_CHARS, FOUND_CHARS = 4000, 600


def lost_answers(record: Record, rows: Sequence[Figures], trials: pd.DataFrame) -> Lost | None:
    """What each level lost that its reference level solved on the same sample.

    Parameters
    ----------
    record : Record
        An open record.
    rows : sequence of Figures
        Its candidates.
    trials : DataFrame
        Those that count, as ``results.frames`` has them.
    """
    of = {(row["candidate"], row["exercise"], row["sample"]): row for row in trials.to_dict("records")}
    found = list(_lost(rows, of))
    shown = [
        LostAnswer(
            exercise=str(lost["exercise"]),
            candidate=str(lost["candidate"]),
            reference=str(kept["candidate"]),
            outcome=str(lost["outcome"]),
            found=cut("", _what_failed(record, int(lost["id"])), FOUND_CHARS).text,
            lines=_side_by_side(_answer(record, int(kept["id"])), _answer(record, int(lost["id"]))),
            trials=(int(kept["id"]), int(lost["id"])),
        )
        for kept, lost in found[:MOST_LOST]
    ]
    return Lost(answers=tuple(shown), left_out=len(found) - len(shown)) if shown else None


def _lost(
    rows: Sequence[Figures], of: Mapping[tuple[Any, Any, Any], Mapping[Any, Any]]
) -> Iterator[tuple[Mapping[Any, Any], Mapping[Any, Any]]]:
    """Pairs of trials: the reference's that passed, the level's that did not; one sample an exercise."""
    passed, faults = Outcome.PASSED.value, {Outcome.SERVER_FAULT.value, Outcome.RIG_FAULT.value}
    for row in rows:
        if row.against is None:
            continue
        seen = set[str]()
        for (candidate, exercise, sample), trial in sorted(of.items(), key=lambda item: item[0][1:]):
            kept = of.get((row.against.reference, exercise, sample))
            if candidate != row.candidate or exercise in seen or kept is None:
                continue
            if kept["outcome"] == passed and trial["outcome"] not in {passed, *faults}:
                seen.add(exercise)
                yield kept, trial


def _answer(record: Record, trial_id: int) -> str:
    files = open_trial(record, trial_id)["attempts"][-1]["files"]
    lead = len(files) > 1
    return "\n".join(f"{f'--- {name}' + chr(10) if lead else ''}{text}" for name, text in files.items())


def _what_failed(record: Record, trial_id: int) -> str:
    attempt = open_trial(record, trial_id)["attempts"][-1]
    details = [check["detail"] for check in attempt["checks"] if check["detail"]]
    return str(attempt["fault"] or next(iter(details), "no check says more"))


def _side_by_side(before: str, after: str) -> tuple[Compared, ...]:
    """Two texts line by line, with which lines differ."""
    old, new = (cut("", text, ANSWER_CHARS).text.splitlines() for text in (before, after))
    lines: list[Compared] = []
    for kind, a, b, c, d in difflib.SequenceMatcher(None, old, new, autojunk=False).get_opcodes():
        for left, right in _zipped(old[a:b], new[c:d]):
            lines.append(Compared(left=left, right=right, same=kind == "equal"))
    return tuple(lines)


def _zipped(left: Sequence[str], right: Sequence[str]) -> Iterator[tuple[str | None, str | None]]:
    for number in range(max(len(left), len(right))):
        yield (left[number] if number < len(left) else None, right[number] if number < len(right) else None)
