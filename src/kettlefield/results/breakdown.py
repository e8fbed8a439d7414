"""Pass rates by kind, language, difficulty and topic, and by suite where a campaign has several."""

import itertools
import math
from collections.abc import Mapping, Sequence

import msgspec
import numpy as np
import pandas as pd

from kettlefield.core.outcome import Outcome
from kettlefield.core.statistics.estimate import Estimate
from kettlefield.core.statistics.intervals import pass_ratio, weighted_ratio
from kettlefield.core.statistics.likeness import intraclass_correlation
from kettlefield.core.statistics.paired import SeedGap, seed_gap
from kettlefield.record.store import Record
from kettlefield.results.frames import counted_trials, trials_frame
from kettlefield.results.rows import exercise_rows

GROUPINGS = ("kind", "language", "difficulty", "topic", "outcome")
FEW = 5  # trials: a share of fewer is marked


class Group(msgspec.Struct, frozen=True, kw_only=True):
    """One candidate in one group; an exercise with several topics is in each of theirs."""

    candidate: str
    group: str
    trials: int  # that count: faults of server and rig are left out
    solved: int
    pass_rate: Estimate

    @property
    def few(self) -> bool:
        """Too few trials to say much."""
        return self.trials < FEW


def pass_rates_by(record: Record, grouping: str) -> tuple[Group, ...]:
    """Every candidate's pass rate in each group, candidates in the record's order and groups by name.

    Parameters
    ----------
    record : Record
        An open record.
    grouping : str
        One of `GROUPINGS` but "outcome", which is not a property of an exercise.
    """
    counted = counted_trials(trials_frame(record))
    joined = counted.merge(_exercises(record, grouping), on="exercise")
    groups = []
    for candidate in counted["candidate"].unique():
        mine = joined[joined["candidate"] == candidate]
        for name, group in mine.groupby("group", sort=True):
            shares = group.groupby("exercise")["passed"].agg(["sum", "count"])
            ratio = pass_ratio(list(shares["sum"].astype(int)), list(shares["count"].astype(int)))
            groups.append(
                Group(
                    candidate=str(candidate),
                    group=str(name),
                    trials=len(group),
                    solved=int(group["passed"].sum()),
                    pass_rate=ratio,
                )
            )
    return tuple(groups)


def _exercises(record: Record, grouping: str) -> pd.DataFrame:
    """One row an exercise and group that it is in."""
    rows = [
        {"exercise": one.id, "group": group}
        for one in exercise_rows(record)
        for group in (one.topics if grouping == "topic" else (getattr(one, grouping),))
    ]
    return pd.DataFrame(rows, columns=["exercise", "group"]).dropna()


class SuiteFigures(msgspec.Struct, frozen=True, kw_only=True):
    """One candidate on one suite."""

    suite: str
    weight: float
    trials: int
    solved: int
    passes: tuple[tuple[int, int], ...]  # for each exercise: passed, asked
    tasks: tuple[str, ...]  # of each exercise: on another seed of the suite it is the same

    def estimate(self, *, confidence: float) -> Estimate | None:
        """Its pass rate; None before the first trial."""
        return pass_ratio(*zip(*self.passes, strict=True), confidence=confidence) if self.passes else None


class SeedPair(msgspec.Struct, frozen=True, kw_only=True):
    """One candidate on two seeds of a suite, over the exercises that vary."""

    suites: tuple[str, str]
    gap: SeedGap
    between_seeds: Estimate | None  # intra-class correlation of an exercise's two variants; None: nothing varies
    between_samples: Estimate | None  # the same of the samples of one variant; None with one sample too


def exercises_frame(record: Record) -> pd.DataFrame:
    """One row an exercise that can be asked on its rig: its id, suite, weight, and whether it varies."""
    return record.once("exercises_frame", lambda: _read_exercises_frame(record))


def _read_exercises_frame(record: Record) -> pd.DataFrame:
    columns = ("suite", "weight", "varies", "suite_name", "suite_seed", "own_id")
    rows = [
        {"exercise": one.id, **{name: getattr(one, name) for name in columns}}
        for one in exercise_rows(record)
        if one.not_measured is None
    ]
    return pd.DataFrame(rows, columns=["exercise", *columns])


def by_suite(counted: pd.DataFrame, exercises: pd.DataFrame) -> tuple[SuiteFigures, ...]:
    """One candidate's trials by suite, in the record's order.

    Parameters
    ----------
    counted : data frame
        Its trials without faults: columns exercise, task and first_outcome.
    exercises : data frame
        As `exercises_frame` gives it.
    """
    passed = counted["first_outcome"] == Outcome.PASSED.value
    figures = []
    for suite in exercises["suite"].unique():
        of_suite = exercises[exercises["suite"] == suite]
        mine = counted["exercise"].isin(of_suite["exercise"])
        shares = passed[mine].groupby([counted["exercise"][mine], counted["task"][mine]]).agg(["sum", "count"])
        figures.append(
            SuiteFigures(
                suite=str(suite),
                weight=float(of_suite["weight"].iloc[0]),
                trials=int(mine.sum()),
                solved=int(passed[mine].sum()),
                passes=tuple((int(row["sum"]), int(row["count"])) for row in shares.to_dict("records")),
                tasks=tuple(str(task) for _, task in shares.index),
            )
        )
    return tuple(figures)


def together(suites: tuple[SuiteFigures, ...], *, confidence: float, corrected: bool = False) -> Estimate | None:
    """The pass rate over all suites by weight, as `weighted_ratio` has it; None before each has a trial."""
    if not suites or any(not suite.passes for suite in suites):
        return None
    shares = [(s.weight, [passed for passed, _ in s.passes], [asked for _, asked in s.passes]) for s in suites]
    return weighted_ratio(shares, confidence=confidence, likeness=_likeness(suites), corrected=corrected)


def _likeness(suites: tuple[SuiteFigures, ...]) -> np.ndarray:
    """Correlation of the suites' pass rates, which comes from tasks that several of them ask: never below 0.

    Where every such task of a suite was solved, or none, nothing can be said of it: taken as 1, the cautious end.
    """
    correlations = np.eye(len(suites))
    solved = [dict(zip(one.tasks, (passed / asked for passed, asked in one.passes), strict=True)) for one in suites]
    for i, j in itertools.combinations(range(len(suites)), 2):
        shared = sorted(set(solved[i]) & set(solved[j]))
        if shared:
            sides = np.array([[solved[k][task] for task in shared] for k in (i, j)])
            varies = len(shared) > 2 and bool(np.all(np.ptp(sides, axis=1) > 0))
            rho = max(0.0, float(np.corrcoef(sides)[0, 1])) if varies else 1.0
            correlations[i, j] = correlations[j, i] = rho * len(shared) / math.sqrt(len(solved[i]) * len(solved[j]))
    return correlations


def seed_pairs(counted: pd.DataFrame, exercises: pd.DataFrame) -> tuple[SeedPair, ...]:
    """One candidate on the first and on every further seed of a suite, where a campaign has several."""
    solved = (counted["first_outcome"] == Outcome.PASSED.value).groupby(counted["exercise"]).mean()
    vary = exercises[exercises["varies"].astype(bool)].dropna(subset=["suite_name", "suite_seed", "own_id"])
    pairs = []
    for _, of_suite in vary.groupby("suite_name", sort=False):
        seeds = sorted(of_suite["suite_seed"].unique())
        sides = {
            seed: of_suite[of_suite["suite_seed"] == seed]
            .set_index("own_id")
            .join(solved.rename("share"), on="exercise")
            .dropna()
            for seed in seeds
        }
        for seed in seeds[1:]:
            first, second = sides[seeds[0]], sides[seed]
            both = first.index.intersection(second.index)
            if len(both):
                gap = seed_gap(list(first.loc[both, "share"]), list(second.loc[both, "share"]))
                labels = (str(first["suite"].iloc[0]), str(second["suite"].iloc[0]))
                asked = [*first.loc[both, "exercise"], *second.loc[both, "exercise"]]
                samples = counted[counted["exercise"].isin(asked)].groupby("exercise")["first_outcome"]
                pairs.append(
                    SeedPair(
                        suites=labels,
                        gap=gap,
                        between_seeds=intraclass_correlation(
                            list(zip(first.loc[both, "share"], second.loc[both, "share"], strict=True))
                        ),
                        between_samples=intraclass_correlation(
                            [list(outcomes == Outcome.PASSED.value) for _, outcomes in samples]
                        ),
                    )
                )
    return tuple(pairs)


PROPERTIES = ("kind", "language", "difficulty", "topic", "suite")


def belongs(exercise: Mapping[str, str], wanted: Sequence[tuple[str, str]]) -> bool:
    """Whether an exercise has every property wanted.

    Parameters
    ----------
    exercise : mapping
        `PROPERTIES` to text; several topics stand in one, divided by commas.
    wanted : sequence of (str, str)
        Property and value; all must hold.
    """
    return all(
        value in exercise[name].split(",") if name == "topic" else exercise[name] == value for name, value in wanted
    )
