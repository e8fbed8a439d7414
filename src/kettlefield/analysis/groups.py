"""Pass rates by what exercises are: kind, language, difficulty, topic."""

import json
from dataclasses import dataclass

import pandas as pd
import sqlalchemy as sa

from kettlefield.analysis.frames import counted_trials, trials_frame
from kettlefield.core.estimate import Estimate
from kettlefield.core.intervals import pass_ratio
from kettlefield.record import schema
from kettlefield.record.store import Record

GROUPINGS = ("kind", "language", "difficulty", "topic", "outcome")
FEW = 5  # trials: a share of fewer is marked


@dataclass(frozen=True, slots=True, kw_only=True)
class Group:
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
        One of `GROUPINGS` but "outcome", which is no property of an exercise.
    """
    counted = counted_trials(trials_frame(record))
    joined = counted.merge(_exercises(record, grouping), on="exercise")
    found = []
    for candidate in counted["candidate"].unique():
        mine = joined[joined["candidate"] == candidate]
        for name, group in mine.groupby("group", sort=True):
            shares = group.groupby("exercise")["passed"].agg(["sum", "count"])
            ratio = pass_ratio(list(shares["sum"].astype(int)), list(shares["count"].astype(int)))
            found.append(
                Group(
                    candidate=str(candidate),
                    group=str(name),
                    trials=len(group),
                    solved=int(group["passed"].sum()),
                    pass_rate=ratio,
                )
            )
    return tuple(found)


def _exercises(record: Record, grouping: str) -> pd.DataFrame:
    """One row an exercise and group that it is in."""
    table = schema.exercise
    column = table.c.topics if grouping == "topic" else table.c[grouping]
    with record.reading() as connection:
        frame = pd.read_sql_query(sa.select(table.c.id.label("exercise"), column.label("group")), connection)
    if grouping == "topic":
        frame = frame.assign(group=frame["group"].map(json.loads)).explode("group")
    return frame.dropna()
