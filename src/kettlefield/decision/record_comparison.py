"""An old record and a new one of the same candidates: what changed, what moved by more than noise, what flipped."""

from typing import Literal

import msgspec
import pandas as pd

from kettlefield.core.statistics.estimate import Estimate
from kettlefield.core.statistics.paired import score_interval
from kettlefield.core.statistics.trends import median_ratio
from kettlefield.core.values import Change
from kettlefield.decision.provenance import changes_of, standings
from kettlefield.decision.verdict import CandidateVerdict
from kettlefield.record.store import Record
from kettlefield.results.comparison import Comparison, compare
from kettlefield.results.frames import counted_trials, trials_frame
from kettlefield.results.paired_comparison import find_against
from kettlefield.results.speed import shared_points, timed_frame, undisturbed

SIDES = ("old", "new")
# what differs from run to run is in no interval that is made within one: this much of a ratio is never a move
RUN_TO_RUN = 0.02
# a single measurement moved when it differs by more than this share of the old one
PLAIN_MOVES = {"peak_bytes": 0.05, "load_s": 0.25}


class Move(msgspec.Struct, frozen=True, kw_only=True):
    """One figure in both records."""

    figure: str
    unit: Literal["difference", "ratio"]  # of the new one to the old one
    change: Estimate | float
    moved: bool  # the interval lies clear of no change; a single measurement differs by more than `PLAIN_MOVES`


class Flip(msgspec.Struct, frozen=True, kw_only=True):
    """A criterion whose status differs, or that only one of the plans has."""

    criterion: str
    wanted: str
    then: str | None
    now: str | None


class Between(msgspec.Struct, frozen=True, kw_only=True):
    """One candidate in both records."""

    candidate: str
    then: str  # verdict by the old record
    now: str  # by the new one
    changes: tuple[Change, ...]
    moves: tuple[Move, ...]
    not_compared: tuple[str, ...]  # in words: what, and why
    flips: tuple[Flip, ...]


def between(
    old: Record,
    new: Record,
    verdicts: tuple[tuple[CandidateVerdict, ...], tuple[CandidateVerdict, ...]],
) -> tuple[Between, ...]:
    """Every candidate that both records hold, in the order of the old one.

    Parameters
    ----------
    old, new : Record
        Open records.
    verdicts : pair of verdicts
        Each record's candidates evaluated against its own criteria.
    """
    grounds = [standings(record) for record in (old, new)]
    tables = (compare(old), compare(new))
    judged = [{one.candidate: one for one in side} for side in verdicts]
    trials = [counted_trials(trials_frame(record)) for record in (old, new)]
    timed = [timed_frame(record) for record in (old, new)]
    compared = []
    for name in (name for name in grounds[0] if name in grounds[1]):
        moves: list[Move] = []
        left_out: list[str] = []
        if tables[0].suite_digest != tables[1].suite_digest:
            left_out.append("pass rate: the suites differ, so the exercises are not the same")
        else:
            mine = [
                side[side["candidate"] == name].assign(candidate=word) for side, word in zip(trials, SIDES, strict=True)
            ]
            moves += _pass_rate(pd.concat(mine))
        grids = [undisturbed(side[(side["candidate"] == name) & (side["purpose"] == "latency")]) for side in timed]
        for field in ("ttft_s", "decode_tps"):
            ratio = median_ratio(shared_points(grids[1], grids[0], field))
            if ratio is not None:
                moves.append(
                    Move(figure=f"{field}.p50", unit="ratio", change=ratio, moved=_clear_of(ratio, 1.0, RUN_TO_RUN))
                )
            elif len(grids[0]) or len(grids[1]):
                left_out.append(f"{field}: no point was timed often enough in both")
        moves += _plain(tables, name)
        compared.append(
            Between(
                candidate=name,
                then=_verdict_of(judged[0].get(name)),
                now=_verdict_of(judged[1].get(name)),
                changes=changes_of(grounds[0][name], grounds[1][name]),
                moves=tuple(moves),
                not_compared=tuple(left_out),
                flips=_flips(judged[0].get(name), judged[1].get(name)),
            )
        )
    return tuple(compared)


def _pass_rate(both: pd.DataFrame) -> list[Move]:
    """The new record compared with the old one on the same exercises and samples."""
    against = find_against(both, SIDES[1], SIDES[0])
    if against is None:
        return []
    gap = score_interval(against.pairs)
    return [Move(figure="pass_rate", unit="difference", change=gap, moved=_clear_of(gap, 0.0, 0.0))]


def _plain(tables: tuple[Comparison, Comparison], name: str) -> list[Move]:
    """Figures that are one measurement each, without an interval."""
    rows = [next(row for row in table.rows if row.candidate == name) for table in tables]
    moves = []
    for figure, most in PLAIN_MOVES.items():
        then, now = (getattr(row, figure) for row in rows)
        if then and now:
            ratio = now / then
            moves.append(Move(figure=figure, unit="ratio", change=ratio, moved=abs(ratio - 1) > most))
    return moves


def _clear_of(estimate: Estimate, none: float, by: float) -> bool:
    """Whether an interval lies on one side of no change, and further from it than a distance."""
    return (estimate.low is not None and estimate.low > none + by) or (
        estimate.high is not None and estimate.high < none - by
    )


def _verdict_of(judged: CandidateVerdict | None) -> str:
    return judged.verdict.value if judged is not None else "baseline"


def _flips(then: CandidateVerdict | None, now: CandidateVerdict | None) -> tuple[Flip, ...]:
    sides = [
        {(one.criterion.label, one.criterion.wanted): one.status.value for one in side.judgements} if side else {}
        for side in (then, now)
    ]
    return tuple(
        Flip(criterion=key[0], wanted=key[1], then=sides[0].get(key), now=sides[1].get(key))
        for key in dict.fromkeys([*sides[0], *sides[1]])
        if sides[0].get(key) != sides[1].get(key)
    )
