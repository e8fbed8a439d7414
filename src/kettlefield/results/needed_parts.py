"""Tasks about a long text: solved by the text's length, and by where in the prompt the needed parts stood."""

from collections.abc import Sequence
from typing import Any

import msgspec
import pandas as pd

from kettlefield.core.outcome import Outcome
from kettlefield.core.statistics.estimate import Estimate
from kettlefield.core.statistics.intervals import pass_ratio
from kettlefield.record.store import Record
from kettlefield.results.frames import counted_trials, every_trial_frame
from kettlefield.results.rows import ExerciseRow, candidate_rows, exercise_rows

PLACES = ("first third", "second third", "last third", "several places")
LENGTHS = ((0, "under 32,000 characters"), (32_000, "32,000 to 64,000"), (64_000, "64,000 and more"))


class Asked(msgspec.Struct, frozen=True, kw_only=True):
    """One exercise about a long text, put to one candidate at one fill of its context."""

    candidate: str
    fill: float | None  # share of the context that files and exercise take; None: the exercise alone
    exercise: str
    text: str
    text_chars: int
    prompt_tokens: int | None  # median
    needed: tuple[float, ...]  # where each needed part stood, as shares of the prompt
    needed_tokens: tuple[int, ...]  # the same, in tokens from the prompt's start; empty where nothing was counted
    passed: int
    over_context: int  # trials whose prompt does not fit; they are not passed
    trials: int

    @property
    def place(self) -> str:
        """The third of the prompt in which all needed parts stood."""
        thirds = {min(2, int(3 * share)) for share in self.needed}
        return PLACES[thirds.pop()] if len(thirds) == 1 else PLACES[-1]

    @property
    def length(self) -> str:
        """The class of the text's length."""
        return next(words for least, words in reversed(LENGTHS) if self.text_chars >= least)


class PartsFigures(msgspec.Struct, frozen=True, kw_only=True):
    """One candidate at one fill, on the exercises of one place or of one length."""

    candidate: str
    fill: float | None
    group: str
    exercises: int
    trials: int
    over_context: int
    prompt_tokens: int | None  # median of the exercises' medians
    pass_rate: Estimate


def asked_about_texts(record: Record) -> tuple[Asked, ...]:
    """Every exercise about a long text, by candidate, fill and exercise; empty where none was asked."""
    return record.once("asked_about_texts", lambda: tuple(_asked(record)))


def _asked(record: Record) -> list[Asked]:
    about = {one.id: one for one in exercise_rows(record) if one.refer is not None}
    counted = counted_trials(every_trial_frame(record))
    counted = counted[counted["exercise"].isin(about)]
    if counted.empty:
        return []
    rows = []
    for entry in candidate_rows(record):
        mine = counted[counted["candidate"] == entry.name]
        alone = mine[mine["context_fill"].isna()].groupby("exercise")["prompt_tokens"].median()
        fills = mine["context_fill"].fillna(0.0)
        for fill in sorted(fills.unique()):
            for name, trials in mine[fills == fill].groupby("exercise", sort=True):
                rows.append(_row(entry.name, float(fill) or None, about[str(name)], trials, alone.get(name)))
    return rows


def _row(candidate: str, fill: float | None, exercise: ExerciseRow, trials: pd.DataFrame, alone: Any) -> Asked:
    refer = exercise.refer
    assert refer is not None  # noqa: S101 - the caller chose
    tokens = trials["prompt_tokens"].dropna().median()
    whole = float(tokens) if pd.notna(tokens) else None
    own = float(alone) if alone is not None and pd.notna(alone) else whole
    needed_tokens: tuple[int, ...] = ()
    needed = refer.needed
    if whole is not None and own is not None and whole > 0:
        # whatever stands before the exercise moves its parts towards the end
        needed_tokens = tuple(round(max(0.0, whole - own) + share * min(own, whole)) for share in refer.needed)
        needed = tuple(token / whole for token in needed_tokens)
    return Asked(
        candidate=candidate,
        fill=fill,
        exercise=exercise.id,
        text=refer.text,
        text_chars=refer.chars,
        prompt_tokens=None if whole is None else round(whole),
        needed=needed,
        needed_tokens=needed_tokens,
        passed=int(trials["passed"].sum()),
        over_context=int((trials["outcome"] == Outcome.OVER_CONTEXT.value).sum()),
        trials=len(trials),
    )


def by_place(rows: Sequence[Asked]) -> list[PartsFigures]:
    """Pass rates by the third of the prompt in which the needed parts stood."""
    return _grouped(rows, "place", PLACES)


def by_length(rows: Sequence[Asked]) -> list[PartsFigures]:
    """Pass rates by the length of the text."""
    return _grouped(rows, "length", [words for _, words in LENGTHS])


def _grouped(rows: Sequence[Asked], what: str, order: Sequence[str]) -> list[PartsFigures]:
    figures = []
    for candidate, fill in dict.fromkeys((row.candidate, row.fill) for row in rows):
        for group in order:
            mine = [
                row for row in rows if (row.candidate, row.fill) == (candidate, fill) and getattr(row, what) == group
            ]
            if mine:
                tokens = [row.prompt_tokens for row in mine if row.prompt_tokens is not None]
                figures.append(
                    PartsFigures(
                        candidate=candidate,
                        fill=fill,
                        group=group,
                        exercises=len(mine),
                        trials=sum(row.trials for row in mine),
                        over_context=sum(row.over_context for row in mine),
                        prompt_tokens=round(float(pd.Series(tokens).median())) if tokens else None,
                        pass_rate=pass_ratio([row.passed for row in mine], [row.trials for row in mine]),
                    )
                )
    return figures
