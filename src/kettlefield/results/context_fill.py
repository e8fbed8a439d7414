"""Correctness as the context fills: each candidate at each share of its context, beside the exercise alone."""

import msgspec
import pandas as pd

from kettlefield.core.statistics.estimate import Estimate
from kettlefield.core.statistics.paired import score_interval
from kettlefield.record.entries import filled_phase
from kettlefield.record.store import Record
from kettlefield.results.breakdown import by_suite, exercises_frame, together
from kettlefield.results.frames import counted_trials, every_trial_frame, memory_frame, trials_at
from kettlefield.results.paired_comparison import against_empty
from kettlefield.results.rows import candidate_rows

ALONE_PHASE = "answers"


class FillFigures(msgspec.Struct, frozen=True, kw_only=True):
    """One candidate at one share of its context; None was not measured."""

    candidate: str
    fill: float | None  # share of the context that files and exercise take; None: the exercise alone
    trials: int  # that count
    pass_rate: Estimate | None
    difference: Estimate | None  # of pass rates, to the exercise alone, paired
    won: tuple[str, ...]  # exercises of which more samples pass than alone
    lost: tuple[str, ...]
    p: float | None  # exact, of equal pass rates
    prompt_tokens: int | None  # median
    ttft_s: float | None  # median
    reply_s: float | None  # median of whole replies
    peak_bytes: int | None  # of the server while these were asked


def context_fills(record: Record, *, confidence: float = 0.95) -> tuple[FillFigures, ...]:
    """Every candidate at every fill, the exercise alone first; empty where nothing was asked with files before it.

    Parameters
    ----------
    record : Record
        An open record.
    confidence : float
        Two-sided, of every interval.
    """
    return record.once(f"context_fills {confidence}", lambda: _read(record, confidence))


def _read(record: Record, confidence: float) -> tuple[FillFigures, ...]:
    fills = sorted(every_trial_frame(record)["context_fill"].dropna().unique())
    if not fills:
        return ()
    exercises, memory = exercises_frame(record), memory_frame(record)
    counted = {fill: counted_trials(trials_at(record, fill)) for fill in (None, *fills)}
    rows = []
    for entry in candidate_rows(record):
        for fill, trials in counted.items():
            mine = trials[trials["candidate"] == entry.name]
            if mine.empty:
                continue
            against = against_empty(trials, counted[None], entry.name) if fill is not None else None
            phase = ALONE_PHASE if fill is None else filled_phase(fill)
            peaks = memory[(memory["candidate"] == entry.name) & (memory["phase"] == phase)]["peak_bytes"].dropna()
            rows.append(
                FillFigures(
                    candidate=entry.name,
                    fill=fill,
                    trials=len(mine),
                    pass_rate=together(by_suite(mine, exercises), confidence=confidence),
                    difference=score_interval(against.pairs, confidence=confidence) if against is not None else None,
                    won=against.won if against is not None else (),
                    lost=against.lost if against is not None else (),
                    p=against.p if against is not None else None,
                    prompt_tokens=_rounded(_median(mine["prompt_tokens"])),
                    ttft_s=_median(mine["ttft_s"]),
                    reply_s=_median(mine["finished_s"]),
                    peak_bytes=int(peaks.max()) if len(peaks) else None,
                )
            )
    return tuple(rows)


def _median(column: pd.Series) -> float | None:
    values = column.dropna()
    return float(values.median()) if len(values) else None


def _rounded(value: float | None) -> int | None:
    return None if value is None else round(value)
