"""Scores with marks mixed in by the plan's weights - apart from the checks' own score, never in its place."""

from collections.abc import Mapping, Sequence

import msgspec
import numpy as np
import pandas as pd

from kettlefield.core.statistics.estimate import Estimate
from kettlefield.core.statistics.intervals import mean_of_groups
from kettlefield.marking.blind_replies import Item, items_of
from kettlefield.marking.judge_trust import Trust, trusts, why_not_used
from kettlefield.marking.marks import Agreement, Key, Mark, agreements, mean_marks, parting_by_checks, standing_marks
from kettlefield.marking.scale import HIGHEST, Weights
from kettlefield.record.store import Record
from kettlefield.results.frames import counted_trials, trials_frame
from kettlefield.suite.format import KINDS


class MarkedCandidate(msgspec.Struct, frozen=True, kw_only=True):
    """One candidate's marks beside its checks."""

    candidate: str
    marked: int  # trials whose reply people marked
    mean_mark: Estimate | None  # of people, 0 to 4
    judged: int  # trials whose reply a judge marked
    mean_judgement: Estimate | None  # 0 to 4
    checks_score: Estimate | None  # 0 to 1
    marked_score: Estimate | None  # 0 to 1: with the plan's weights


class Marking(msgspec.Struct, frozen=True, kw_only=True):
    """All that was marked in a record."""

    weights: Weights
    items: tuple[Item, ...]
    marks: Mapping[Key, Mark]
    agreements: tuple[Agreement, ...]
    by_checks: Estimate | None  # how people's marks part what passes from what fails
    trusts: tuple[Trust, ...]
    unused: Mapping[str, str]  # judge -> why its marks are shown and not used
    trials: pd.DataFrame  # those that count, with the columns mark and judgement
    candidates: tuple[MarkedCandidate, ...]

    @property
    def weights_used(self) -> Weights:
        """The plan's weights; a judge that cannot be trusted weighs nothing."""
        return self.weights.without_judge() if self.unused else self.weights

    @property
    def is_empty(self) -> bool:
        """Whether nobody marked anything."""
        return not self.marks and not self.trusts


def read_marking(record: Record, weights: Weights) -> Marking:
    """Read every mark of a record, and what it makes of each candidate."""
    items = items_of(record, KINDS)
    marks = standing_marks(record)
    human = mean_marks(marks)
    judges = trusts(record, items, human)
    unused = {trust.judge: why for trust in judges if (why := why_not_used(trust, weights.agreement_at_least))}
    trials = with_marks(counted_trials(trials_frame(record)), items, human, judges)
    usable = weights.without_judge() if unused else weights
    return Marking(
        weights=weights,
        items=items,
        marks=marks,
        agreements=agreements(marks),
        by_checks=parting_by_checks(items, human),
        trusts=judges,
        unused=unused,
        trials=trials,
        candidates=tuple(_candidate(str(name), mine, usable) for name, mine in trials.groupby("candidate", sort=False)),
    )


def with_marks(
    counted: pd.DataFrame, items: Sequence[Item], human: Mapping[str, float], judges: Sequence[Trust]
) -> pd.DataFrame:
    """Trials with the columns ``mark`` and ``judgement``, 0 to 4, empty where there is none."""
    item_of = {trial: item.digest for item in items for trial in item.trials}
    digests = counted["id"].map(item_of)
    means: dict[str, list[float]] = {}
    for trust in judges:
        for item, mark in trust.marks.items():
            means.setdefault(item, []).append(mark)
    judged = {item: float(np.mean(values)) for item, values in means.items()}
    return counted.assign(mark=digests.map(human).astype(float), judgement=digests.map(judged).astype(float))


def mixed_scores(trials: pd.DataFrame, weights: Weights) -> pd.Series:
    """Each trial's score, 0 to 1: the checks' with each mark that it has mixed in at the plan's weight.

    A mark that a trial does not have leaves its weight to the checks.
    """
    mark, judgement = trials["mark"] / HIGHEST, trials["judgement"] / HIGHEST
    by_people = weights.people * mark.notna()
    by_judge = weights.judge * judgement.notna()
    rest = 1 - by_people - by_judge
    mixed: pd.Series = rest * trials["score"] + by_people * mark.fillna(0) + by_judge * judgement.fillna(0)
    return mixed


def _candidate(name: str, trials: pd.DataFrame, weights: Weights) -> MarkedCandidate:
    return MarkedCandidate(
        candidate=name,
        marked=int(trials["mark"].notna().sum()),
        mean_mark=mean_by_exercise(trials, trials["mark"], most=HIGHEST),
        judged=int(trials["judgement"].notna().sum()),
        mean_judgement=mean_by_exercise(trials, trials["judgement"], most=HIGHEST),
        checks_score=mean_by_exercise(trials, trials["score"]),
        marked_score=mean_by_exercise(trials, mixed_scores(trials, weights)),
    )


def mean_by_exercise(
    trials: pd.DataFrame, values: pd.Series, confidence: float = 0.95, *, most: float = 1.0
) -> Estimate | None:
    """Mean over trials, its interval over exercises: samples of one exercise depend on each other."""
    known = trials.assign(value=values).dropna(subset=["value"])
    groups = [list(group) for _, group in known.groupby("exercise")["value"]]
    return mean_of_groups(groups, confidence=confidence, within=(0.0, most)) if groups else None
