"""A campaign's suites apart: what a candidate solved of each, and whether another seed of one is harder for it."""

from dataclasses import dataclass

import pandas as pd
import sqlalchemy as sa

from kettlefield.core.estimate import Estimate
from kettlefield.core.intervals import pass_ratio, weighted_ratio
from kettlefield.core.outcome import Outcome
from kettlefield.core.seedgap import SeedGap, seed_gap
from kettlefield.record import schema
from kettlefield.record.store import Record


@dataclass(frozen=True, slots=True, kw_only=True)
class SuiteFigures:
    """One candidate on one suite."""

    suite: str
    weight: float
    trials: int
    solved: int
    passes: tuple[tuple[int, int], ...]  # for each exercise: passed, asked

    def estimate(self, *, confidence: float) -> Estimate | None:
        """Its pass rate; None before the first trial."""
        return pass_ratio(*zip(*self.passes, strict=True), confidence=confidence) if self.passes else None


@dataclass(frozen=True, slots=True, kw_only=True)
class SeedPair:
    """One candidate on two seeds of a suite, over the exercises that vary."""

    suites: tuple[str, str]
    gap: SeedGap


def exercises_frame(record: Record) -> pd.DataFrame:
    """One row an exercise that can be asked on its rig: its id, suite, weight, and whether it varies."""
    table = schema.exercise
    with record.reading() as connection:
        query = sa.select(table.c.id.label("exercise"), table.c.suite, table.c.weight, table.c.varies)
        return pd.read_sql_query(query.where(table.c.not_measured.is_(None)), connection)


def by_suite(counted: pd.DataFrame, exercises: pd.DataFrame) -> tuple[SuiteFigures, ...]:
    """One candidate's trials by suite, in the record's order.

    Parameters
    ----------
    counted : data frame
        Its trials without faults: columns exercise and first_outcome.
    exercises : data frame
        As `exercises_frame` gives it.
    """
    passed = counted["first_outcome"] == Outcome.PASSED.value
    found = []
    for suite in exercises["suite"].unique():
        of_suite = exercises[exercises["suite"] == suite]
        mine = counted["exercise"].isin(of_suite["exercise"])
        shares = passed[mine].groupby(counted["exercise"][mine]).agg(["sum", "count"])
        found.append(
            SuiteFigures(
                suite=str(suite),
                weight=float(of_suite["weight"].iloc[0]),
                trials=int(mine.sum()),
                solved=int(passed[mine].sum()),
                passes=tuple((int(row["sum"]), int(row["count"])) for row in shares.to_dict("records")),
            )
        )
    return tuple(found)


def together(suites: tuple[SuiteFigures, ...], *, confidence: float) -> Estimate | None:
    """The pass rate over all suites by weight; None before each has a trial."""
    if not suites or any(not suite.passes for suite in suites):
        return None
    shares = [(s.weight, [passed for passed, _ in s.passes], [asked for _, asked in s.passes]) for s in suites]
    return weighted_ratio(shares, confidence=confidence)


def seed_pairs(counted: pd.DataFrame, exercises: pd.DataFrame) -> tuple[SeedPair, ...]:
    """One candidate on the first and on every further seed of a suite, where a campaign has several."""
    solved = (counted["first_outcome"] == Outcome.PASSED.value).groupby(counted["exercise"]).mean()
    # berthdesk:3/fog-index: of several suites the id tells name and seed
    split = exercises[exercises["varies"].astype(bool)]["exercise"].str.extract(
        r"^(?P<suite>[^/:]+)(?::(?P<seed>\d+))?/(?P<id>.+)$"
    )
    vary = split.assign(
        exercise=exercises["exercise"], label=exercises["suite"], seed=split["seed"].fillna("0")
    ).dropna()
    pairs = []
    for _, of_suite in vary.groupby("suite", sort=False):
        seeds = sorted(of_suite["seed"].unique(), key=int)
        sides = {
            seed: of_suite[of_suite["seed"] == seed]
            .set_index("id")
            .join(solved.rename("share"), on="exercise")
            .dropna()
            for seed in seeds
        }
        for seed in seeds[1:]:
            first, second = sides[seeds[0]], sides[seed]
            both = first.index.intersection(second.index)
            if len(both):
                gap = seed_gap(list(first.loc[both, "share"]), list(second.loc[both, "share"]))
                labels = (str(first["label"].iloc[0]), str(second["label"].iloc[0]))
                pairs.append(SeedPair(suites=labels, gap=gap))
    return tuple(pairs)
