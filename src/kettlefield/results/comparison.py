"""Candidates side by side: what each solved, how fast, in how much memory, at what cost a solved exercise."""

import json
from collections import Counter
from collections.abc import Sequence
from typing import Any

import msgspec
import pandas as pd

from kettlefield.core.errors import InputError
from kettlefield.core.outcome import Outcome
from kettlefield.core.statistics.estimate import Estimate
from kettlefield.core.statistics.intervals import quantile_interval
from kettlefield.core.statistics.paired import pass_at_each_k, score_interval
from kettlefield.core.statistics.pareto import Range, frontier
from kettlefield.core.statistics.sequential import confidence_at
from kettlefield.core.timing.timeline import quantile
from kettlefield.record.earlier import settings_now
from kettlefield.record.store import Record
from kettlefield.results.breakdown import SeedPair, SuiteFigures, by_suite, exercises_frame, seed_pairs, together
from kettlefield.results.frames import (
    campaign_facts,
    candidates_frame,
    counted_trials,
    memory_frame,
    speed_frame,
    trials_frame,
)
from kettlefield.results.look_rows import blocks_asked, blocks_of
from kettlefield.results.paired_comparison import Against, against_full_cache, against_references
from kettlefield.results.speed import usable_of

# what the peak of a server differs from one run to the next where only one run was seen: allocators round to pages and
# arenas, and a peak between two looks is missed
SPREAD_BYTES = 2 * 2**20
SPREAD_SHARE = 0.005
# of requests timed one at a time: name -> field of the samples, and which quantile
QUANTILES = {
    "ttft_s.p50": ("ttft_s", 0.5),
    "ttft_s.p95": ("ttft_s", 0.95),
    "decode_tps.p10": ("decode_tps", 0.1),
    "decode_tps.p50": ("decode_tps", 0.5),
}
CEILING = 0.97  # of a pass rate; the same distance from 0 is the floor


class Figures(msgspec.Struct, frozen=True, kw_only=True):
    """All that was measured of one candidate; None was not measured."""

    candidate: str
    model: str
    level: str
    reference: bool
    baseline: bool  # compared with, not up for approval
    planned: int  # trials that the campaign asks for
    trials: int  # that count: faults of server and rig are beside them
    solved: int  # at the first attempt
    solved_after_repair: dict[int, int]  # repair turns -> trials that passed after that many
    faults: int
    score: float | None  # mean, with credit for the checks that passed
    pass_at_k: dict[int, float]  # chance that at least one of k samples passes, in the mean over exercises
    pass_rate: Estimate | None  # ratio
    peak_bytes: int | None
    host_peak_bytes: int | None
    accelerator_peak_bytes: int | None
    load_s: float | None
    load_kind: str | None  # of that load
    weights_bytes: int | None
    predicted_bytes: int | None  # peak memory as the header predicted it
    decode_ceiling_tps: float | None  # decode rate that bandwidth allows with an empty cache
    licence: str | None  # SPDX
    tokens_per_solved: float | None
    seconds_per_solved: float | None  # request time of all trials that count, over those solved
    disturbed: int  # timed requests that were marked so
    thinking_tokens: float | None  # mean of a trial's last attempt
    answer_tokens: float | None
    answer_ttft_s: float | None  # median
    concurrency: int  # most requests at once in the answers part
    outcomes: dict[str, int]
    suites: tuple[SuiteFigures, ...]
    against: Against | None  # its reference level; None: it is one, or the record holds none
    kv_against: Against | None  # the same with a KV cache of 16 bits; None: it has that, or the record holds none
    seeds: tuple[SeedPair, ...]  # where the campaign asks one suite on several
    peak_spread_bytes: int  # what the peak differs from one run to the next, at the least
    doubts: dict[str, str]  # field or measure -> why what was found of it decides nothing
    speed: dict[str, tuple[float, ...]]  # samples by field
    looks: tuple[float, ...] = ()  # share of the exercises at each look so far; none: there is one, at the end

    def difference(self, *, confidence: float = 0.95) -> Estimate | None:
        """Its pass rate less the reference level's, with an interval that holds at all looks together."""
        if self.against is None:
            return None
        pairs, is_look = self.against.pairs, bool(self.looks)
        at = at_looks(self.looks, confidence)
        return score_interval(pairs.at_look if is_look else pairs, confidence=at, corrected=is_look)

    def quantile(self, name: str, *, confidence: float) -> Estimate | None:
        """One of `QUANTILES` with its two-sided interval; None where nothing was timed."""
        field_name, share = QUANTILES[name]
        values = self.speed[field_name]
        return quantile_interval(values, share, confidence=confidence) if values else None

    @property
    def prediction_error(self) -> float | None:
        """How far measured peak memory lies off the predicted, as a share of the predicted; 0 or more."""
        if self.peak_bytes is None or not self.predicted_bytes:
            return None
        return abs(self.peak_bytes - self.predicted_bytes) / self.predicted_bytes

    @property
    def byte_seconds_per_solved(self) -> float | None:
        """Memory taken times request time, for each trial solved: what a solution costs of the machine."""
        if self.peak_bytes is None or self.seconds_per_solved is None:
            return None
        return self.peak_bytes * self.seconds_per_solved

    @property
    def ceiling_share(self) -> float | None:
        """Median decode rate over what bandwidth allows."""
        rates = self.speed["decode_tps"]
        if "decode_tps" in self.doubts:
            return None
        return quantile(rates, 0.5) / self.decode_ceiling_tps if rates and self.decode_ceiling_tps else None


class Comparison(msgspec.Struct, frozen=True, kw_only=True):
    """A whole campaign's candidates."""

    title: str
    simulated: bool
    suite: str
    suite_digest: str
    exercises: int  # asked of at least one candidate
    rows: tuple[Figures, ...]
    trials: pd.DataFrame  # one row a trial, all of them


def at_looks(looks: Sequence[float], confidence: float) -> float:
    """The two-sided confidence that an interval needs at the last of several looks, to hold at all of them."""
    return 2 * confidence_at(looks, (1 + confidence) / 2) - 1 if looks else confidence


def on_frontier(rows: Sequence[Figures]) -> tuple[str, ...]:
    """Candidates that are Pareto-optimal on pass rate, memory and time for each solved exercise together.

    Only those of which all three are known are looked at.
    """
    known = [
        row
        for row in rows
        if row.pass_rate is not None and row.peak_bytes is not None and row.seconds_per_solved is not None
    ]
    figures = [figure for row in known if (figure := _ranges(row)) is not None]
    return tuple(row.candidate for row, best in zip(known, frontier(figures), strict=True) if best)


def ends_of_scale(rows: Sequence[Figures]) -> list[str]:
    """Warnings, in words, where pass rates lie so near 0 or 1 that the suite tells candidates apart no more."""
    known = [(row.candidate, row.pass_rate.value) for row in rows if row.pass_rate is not None]
    high = [name for name, rate in known if rate >= CEILING]
    low = [name for name, rate in known if rate <= 1 - CEILING]
    lines = [f"ceiling: nearly all is solved, so the suite cannot show what is lost: {', '.join(high)}"] if high else []
    return lines + ([f"floor: nearly nothing is solved, so no drop can be shown: {', '.join(low)}"] if low else [])


def _ranges(row: Figures) -> tuple[Range, ...] | None:
    """Pass rate, memory and time for each solved exercise as ranges in which they lie; higher is better."""
    rate, peak, seconds = row.pass_rate, row.peak_bytes, row.seconds_per_solved
    if rate is None or peak is None or seconds is None:
        return None
    low, high = rate.low or 0.0, 1.0 if rate.high is None else rate.high
    # the time of a trial is as it is; how many of them are solved is what chance has a part in
    slowest = -seconds * rate.value / low if low > 0 else float("-inf")
    spread = row.peak_spread_bytes
    memory = (-float(peak + spread), -float(peak), -float(peak - spread))
    return (low, rate.value, high), memory, (slowest, -seconds, -seconds * rate.value / high)


class Window(msgspec.Struct, frozen=True, kw_only=True):
    """A part of a campaign."""

    exercises: frozenset[str]
    candidates: frozenset[str]


def compare(
    record: Record, *, confidence: float = 0.95, reference: str | None = None, window: Window | None = None
) -> Comparison:
    """Read a record's candidates side by side.

    Parameters
    ----------
    record : Record
        An open record.
    confidence : float
        Two-sided, of every interval.
    reference : str, optional
        A candidate that all others are compared with, whatever their model; none: each model's reference level.
    window : Window, optional
        As if the campaign asked these exercises and had these candidates alone; none: all of it.

    Raises
    ------
    InputError
        No campaign was begun in it, or there is no such candidate.
    """
    return record.once(
        f"compare {confidence} {reference} {window}",
        lambda: _compare(record, confidence=confidence, reference=reference, window=window),
    )


def _compare(record: Record, *, confidence: float, reference: str | None, window: Window | None) -> Comparison:
    facts = campaign_facts(record)
    trials, speed, memory = trials_frame(record), speed_frame(record), memory_frame(record)
    exercises = exercises_frame(record)
    candidates = candidates_frame(record)
    if window is not None:
        trials = trials[trials["exercise"].isin(window.exercises)]
        exercises = exercises[exercises["exercise"].isin(window.exercises)]
        candidates = candidates[candidates["name"].isin(window.candidates)]
    if reference is not None:
        candidates = _with_reference(candidates, reference, record)
    blocks, asked = (blocks_of(record), blocks_asked(record)) if window is None else (None, {})
    against, kv_against = against_references(candidates, trials), against_full_cache(candidates, trials)
    rows = []
    for entry in candidates.to_dict("records"):
        name = entry["name"]
        rows.append(
            _figures(
                entry,
                trials[trials["candidate"] == name],
                speed[speed["candidate"] == name],
                memory[memory["candidate"] == name],
                exercises,
                against.get(name),
                kv_against.get(name),
                planned=len(exercises) * settings_now(entry["settings"])["grading"]["samples"],
                confidence=confidence,
                looks=()
                if blocks is None
                else tuple(len(blocks.upto(b)) / len(blocks.of) for b in range(1, 1 + asked.get(name, 0))),
            )
        )
    return Comparison(
        title=facts["title"],
        simulated=facts["simulated"],
        suite=facts["suite_name"],
        suite_digest=facts["suite_digest"],
        exercises=int(trials["exercise"].nunique()),
        rows=tuple(rows),
        trials=trials,
    )


def _with_reference(candidates: pd.DataFrame, reference: str, record: Record) -> pd.DataFrame:
    """The candidates as if all were levels of one model with that reference."""
    names = list(candidates["name"])
    if reference not in names:
        raise InputError(f'there is no candidate "{reference}"', str(record.place), f"Known here: {', '.join(names)}.")
    return candidates.assign(reference=candidates["name"] == reference, family="")


def _figures(
    entry: dict[Any, Any],
    trials: pd.DataFrame,
    speed: pd.DataFrame,
    memory: pd.DataFrame,
    exercises: pd.DataFrame,
    against: Against | None,
    kv_against: Against | None,
    *,
    planned: int,
    confidence: float,
    looks: tuple[float, ...] = (),
) -> Figures:
    counted = counted_trials(trials)
    repaired = counted[(counted["outcome"] == Outcome.PASSED.value) & ~counted["passed"]]
    solved = int(counted["passed"].sum())
    facts = json.loads(entry["weights_facts"])
    suites = by_suite(counted, exercises)
    samples = {name: usable_of(speed, name) for name in sorted(_speed_fields())}
    load = _load(memory)
    peak = _most(memory["peak_bytes"])
    doubts = {name: usable.doubt for name, usable in samples.items() if usable.doubt}
    if load is not None and load[2] is not None:
        doubts["load_s"] = f"disturbed: {load[2]} while it loaded"
    return Figures(
        candidate=entry["name"],
        model=entry["model"],
        level=entry["level"],
        reference=bool(entry["reference"]),
        baseline=bool(entry["baseline"]),
        planned=planned,
        trials=len(counted),
        solved=solved,
        solved_after_repair=dict(sorted(Counter(int(attempts) - 1 for attempts in repaired["attempts"]).items())),
        faults=len(trials) - len(counted),
        score=_mean(counted["score"]),
        pass_at_k=_pass_at_k(counted),
        pass_rate=together(suites, confidence=at_looks(looks, confidence), corrected=bool(looks)),
        peak_bytes=peak,
        host_peak_bytes=_most(memory["host_peak_bytes"]),
        accelerator_peak_bytes=_most(memory["accelerator_peak_bytes"]),
        load_s=load[0] if load is not None else None,
        load_kind=load[1] if load is not None else None,
        weights_bytes=None if pd.isna(entry["weights_bytes"]) else int(entry["weights_bytes"]),
        predicted_bytes=facts.get("predicted_bytes"),
        decode_ceiling_tps=facts.get("decode_ceiling_tps"),
        licence=facts.get("licence"),
        tokens_per_solved=float(counted["completion_tokens"].sum()) / solved if solved else None,
        seconds_per_solved=float(counted["finished_s"].sum()) / solved if solved else None,
        disturbed=int(speed["disturbed"].notna().sum()),
        thinking_tokens=_mean(counted["thinking_tokens"]),
        answer_tokens=_mean(counted["completion_tokens"] - counted["thinking_tokens"]),
        answer_ttft_s=_median(counted["answer_ttft_s"]),
        concurrency=_most(counted["concurrency"]) or 0,
        outcomes={str(name): int(count) for name, count in trials["outcome"].value_counts().items()},
        suites=suites,
        against=against,
        kv_against=kv_against,
        seeds=seed_pairs(counted, exercises),
        peak_spread_bytes=_spread(memory, peak),
        doubts=doubts,
        speed={name: usable.values for name, usable in samples.items()},
        looks=looks,
    )


def _pass_at_k(counted: pd.DataFrame) -> dict[int, float]:
    shares = counted.groupby("exercise")["passed"].agg(["sum", "count"]).astype(int)
    return pass_at_each_k(list(shares["sum"]), list(shares["count"]))


def _speed_fields() -> set[str]:
    return {name for name, _ in QUANTILES.values()}


def _most(column: pd.Series) -> int | None:
    values = column.dropna()
    return int(values.max()) if len(values) else None


def _mean(column: pd.Series) -> float | None:
    values = column.dropna()
    return float(values.mean()) if len(values) else None


def _median(column: pd.Series) -> float | None:
    values = column.dropna()
    return float(values.median()) if len(values) else None


def _load(memory: pd.DataFrame) -> tuple[float, str, str | None] | None:
    """Seconds, kind and disturbance of the load that stands for all: the first that found its file in memory, or that
    was taken as it came. One from the disk is a figure of its own.
    """
    known = memory[memory["load_s"].notna()]
    for kind in ("warm", "as found"):
        mine = known[known["load_kind"] == kind]
        if len(mine):
            disturbed = mine["load_disturbed"].iloc[0]
            return float(mine["load_s"].iloc[0]), kind, None if pd.isna(disturbed) else str(disturbed)
    return None


def _spread(memory: pd.DataFrame, peak: int | None) -> int:
    """What peak memory differs from one run to the next: what pages and looks leave open, or what runs were seen to."""
    if peak is None:
        return 0
    ends = memory[memory["phase"] == "load"]["end_bytes"].dropna()
    seen = int(ends.max() - ends.min()) if len(ends) > 1 else 0
    return max(SPREAD_BYTES, round(SPREAD_SHARE * peak), seen)
