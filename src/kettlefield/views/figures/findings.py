"""What a figure shows, in one or two sentences made from its own data: never more than the data show."""

from collections import Counter
from collections.abc import Mapping, Sequence
from itertools import pairwise

import numpy as np
import pandas as pd

from kettlefield.core.outcome import Outcome
from kettlefield.core.units import format_bytes
from kettlefield.results.capacity import Floor

LEAST_SAVED = 0.02  # of memory: one run differs from the next by as much
LEAST_RATIO = 1.05  # below it two medians are called about equal: machines differ by as much from run to run


def memory_saved(known: pd.DataFrame) -> str:
    """The least memory at a pass rate that may be the best; columns candidate, pass_rate, low, high, peak_bytes."""
    best = _largest(known, "pass_rate")
    rivals = known[known["high"] >= best["pass_rate"]]
    least = _least(rivals, "peak_bytes")
    rate = f"{best['candidate']} has the highest pass rate, {best['pass_rate']:.2f}"
    if least["candidate"] == best["candidate"]:
        beaten = " and of those that may equal it the least memory" if len(known) > 1 else ""
        return f"{rate}{beaten}, {format_bytes(best['peak_bytes'])}."
    share = 1 - least["peak_bytes"] / best["peak_bytes"]
    if share < LEAST_SAVED:
        peak = format_bytes(best["peak_bytes"])
        return f"{rate}; of those that may equal it none takes clearly less memory than its {peak}."
    return (
        f"{rate}, in {format_bytes(best['peak_bytes'])}; {least['candidate']} takes {share:.0%} less memory, and its "
        f"interval ({least['low']:.2f} to {least['high']:.2f}) reaches that rate."
    )


def losses(frame: pd.DataFrame) -> str:
    """Which levels are shown to differ from their reference; columns candidate, difference, low, high."""
    worse, better = frame[frame["high"] < 0], frame[frame["low"] > 0]
    said = []
    if len(worse):
        most = _least(worse, "difference")
        said.append(
            f"{_count(len(worse), 'level')} solved fewer exercises than the reference beyond chance, most of all "
            f"{most['candidate']}: {most['difference']:+.2f} ({most['low']:+.2f} to {most['high']:+.2f})."
        )
    if len(better):
        said.append(f"{_listed(better['candidate'])} solved more.")
    rest = frame[(frame["high"] >= 0) & (frame["low"] <= 0)]
    if len(rest):
        widest = float(-rest["low"].min())
        who = "of the others" if said else "of any level"
        said.append(f"A drop {who} of up to {max(0.0, widest):.2f} is not excluded.")
    return " ".join(said)


def divergence(frame: pd.DataFrame) -> str:
    """How far levels lie from their reference, and which cannot be told apart; columns candidate, model, kl, kl_low,
    kl_high.
    """
    most, least = _largest(frame, "kl"), _least(frame, "kl")
    if most["candidate"] == least["candidate"]:
        return f"{most['candidate']} diverges from its reference level by {most['kl']:.2g} nats."
    said = f"{least['candidate']} diverges least from its reference level, by {least['kl']:.2g} nats, "
    said += f"{most['candidate']} most, by {most['kl']:.2g}."
    ordered = frame.sort_values("kl").to_dict("records")
    meeting = [
        f"{one['candidate']} and {other['candidate']}"
        for one, other in pairwise(ordered)
        if one["model"] == other["model"] and one["kl_high"] >= other["kl_low"]
    ]
    return f"{said} Not told apart: {', '.join(meeting)}." if meeting else f"{said} All are told apart."


def as_it_fills(frame: pd.DataFrame) -> str:
    """Who solves fewer exercises with files before them; columns candidate, fill, difference, difference_low,
    difference_high, of which the exercise alone has none.
    """
    filled = frame[frame["fill"] > 0].dropna(subset=["difference"])
    if filled.empty:
        return ""
    worse = filled[filled["difference_high"] < 0]
    if len(worse):
        most = _least(worse, "difference")
        return (
            f"With files before them fewer exercises are solved beyond chance in {len(worse)} of {len(filled)} cases, "
            f"most of all by {most['candidate']} at {most['fill']:.0%}: {most['difference']:+.2f} "
            f"({most['difference_low']:+.2f} to {most['difference_high']:+.2f})."
        )
    widest = float(-filled["difference_low"].min())
    return f"No loss to a fuller context is shown; one of up to {max(0.0, widest):.2f} is not excluded."


def closest_replies(frame: pd.DataFrame) -> str:
    """Whose answers are most often the reference's; columns candidate, reference, same_code, with_answer."""
    known = frame[frame["with_answer"] > 0]
    if known.empty:
        return ""
    known = known.assign(share=known["same_code"] / known["with_answer"])
    most, least = _largest(known, "share"), _least(known, "share")
    said = f"{most['candidate']} gives the same code as {most['reference']} in {most['share']:.0%} of its answers"
    return f"{said}, {least['candidate']} in {least['share']:.0%}." if len(known) > 1 else f"{said}."


def shared_failures(cells: Mapping[tuple[str, str], tuple[int, int, str]], exercises: int) -> str:
    """Exercises that all solve and that none does, and how the others fail most often; cells as `outcome_cells`."""
    by_exercise: dict[str, list[bool]] = {}
    failures: Counter[str] = Counter()
    for (exercise, _), (passed, run, other) in cells.items():
        by_exercise.setdefault(exercise, []).append(passed == run)
        if passed < run and other != Outcome.PASSED.value:
            failures[other] += 1
    whole = sum(all(solved) for solved in by_exercise.values())
    none = sum(not any(solved) for solved in by_exercise.values())
    said = f"{whole} of {exercises} exercises are solved by every candidate in every sample, {none} by no candidate."
    if failures:
        kind, count = failures.most_common(1)[0]
        said += f" The most frequent failure is {kind}, {count} of {failures.total()} cells that fail."
    return said


def slowest(samples: Mapping[str, np.ndarray], floor: Floor) -> str:
    """The candidate with the largest median; values in seconds, none shown below the stopwatch's own error."""
    if len(samples) < 2:
        return ""
    middles = {name: float(np.median(values)) for name, values in samples.items()}
    most, least = max(middles, key=lambda name: middles[name]), min(middles, key=lambda name: middles[name])
    if middles[most] < LEAST_RATIO * middles[least] or (floor.seconds is not None and middles[most] < floor.seconds):
        return f"All medians are about equal, {floor.show(middles[most])} at the most."
    return f"{most} has the largest median, {floor.show(middles[most])}; {least} has the smallest."


def fall_with_depth(frame: pd.DataFrame) -> str:
    """How decoding slows as the context fills; columns candidate, depth_tokens, decode_tps: one row a request."""
    changes: dict[str, float] = {}
    deepest: dict[str, float] = {}
    for candidate, rows in frame.groupby("candidate", sort=False):
        middles = rows.groupby("depth_tokens")["decode_tps"].median()
        if len(middles) > 1:
            changes[str(candidate)] = float(middles.iloc[-1] / middles.iloc[0] - 1)
            deepest[str(candidate)] = float(middles.iloc[-1])
    if not changes:
        return ""
    worst, best = min(changes, key=lambda name: changes[name]), max(changes, key=lambda name: changes[name])
    said = f"From the least depth to the largest the decode rate changes by {changes[worst]:+.0%} ({worst})"
    said += f" to {changes[best]:+.0%} ({best})." if best != worst else "."
    fast, slow = max(deepest, key=lambda name: deepest[name]), min(deepest, key=lambda name: deepest[name])
    if deepest[fast] >= LEAST_RATIO * deepest[slow]:
        said += f" There {fast} decodes {deepest[fast] / deepest[slow]:.1f} times as fast as {slow}."
    return said


def load_limits(clients: pd.DataFrame, capacities: Mapping[str, float]) -> str:
    """Where throughput saturates and what rate holds; columns candidate, concurrency, rate_tps, saturation."""
    said = []
    if not clients.empty and clients["rate_tps"].notna().any():
        top = _largest(clients, "rate_tps")
        said.append(
            f"The highest throughput is {top['rate_tps']:,.0f} tokens/s, {top['candidate']} at a concurrency of "
            f"{top['concurrency']:g}."
        )
    said += [f"{name} holds its limits up to {rate:.3g} requests/s." for name, rate in capacities.items() if rate]
    return " ".join(said)


def loading(loads: pd.DataFrame, ceilings: pd.DataFrame) -> str:
    """The longest load, and how near decoding comes to its ceiling; columns as the chart has them."""
    said = []
    if not loads.empty:
        row = _largest(loads, "load_s")
        said.append(f"The longest load takes {row['load_s']:.1f} s ({row['candidate']}, {row['kind']}).")
    if not ceilings.empty:
        low, high = _least(ceilings, "share"), _largest(ceilings, "share")
        upto = f" to {high['share']:.0%} ({high['candidate']})" if len(ceilings) > 1 else ""
        said.append(f"Decoding reaches {low['share']:.0%} ({low['candidate']}){upto} of what bandwidth allows.")
    return " ".join(said)


def highest_peak(peaks: Mapping[str, float], budget_bytes: float | None) -> str:
    """The candidate with the highest peak, and who is beyond the budget."""
    most = max(peaks, key=lambda name: peaks[name])
    said = f"{most} has the highest peak, {format_bytes(peaks[most])}."
    if budget_bytes is None:
        return said
    over = [name for name, peak in peaks.items() if peak > budget_bytes]
    budget = f"the budget of {format_bytes(budget_bytes)}"
    return f"{said} {f'Beyond {budget}: {_listed(over)}.' if over else f'All stay within {budget}.'}"


def prediction_error(known: pd.DataFrame) -> str:
    """Where the header's prediction is off most; columns candidate, predicted_bytes, peak_bytes."""
    error = known["predicted_bytes"] / known["peak_bytes"] - 1
    by_name = {str(name): float(value) for name, value in zip(known["candidate"], error, strict=True)}
    worst = max(by_name, key=lambda name: abs(by_name[name]))
    side = "above" if by_name[worst] > 0 else "below"
    return f"The prediction is off most for {worst}: {abs(by_name[worst]):.0%} {side} the measured peak."


def _largest(frame: pd.DataFrame, column: str) -> pd.Series:
    return frame.sort_values(column, ascending=False, kind="stable").iloc[0]


def _least(frame: pd.DataFrame, column: str) -> pd.Series:
    return frame.sort_values(column, kind="stable").iloc[0]


def _count(count: int, what: str) -> str:
    return f"{count} {what}" if count == 1 else f"{count} {what}s"


def _listed(names: Sequence[str] | pd.Series) -> str:
    return ", ".join(map(str, names))
