"""What each section opens with: two or three sentences made from its figures, never more than they show."""

from collections import Counter

import pandas as pd

from kettlefield.core.acceptance import Status
from kettlefield.core.plaintext import listed
from kettlefield.core.statistics.estimate import Estimate, p_words
from kettlefield.core.units import format_bytes
from kettlefield.results.frames import counted_trials
from kettlefield.results.group_losses import GroupLoss, group_losses, least_shown
from kettlefield.results.rows import exercise_rows
from kettlefield.views.figures import findings
from kettlefield.views.material import Material, solved_frame
from kettlefield.views.table import Words

MOST_NAMED = 3
LEAST_FALL = 0.05  # of the decode rate, from the shallowest to the deepest; machines differ by as much


def criteria_opening(material: Material) -> Words | None:
    """How the criteria stand, and which rejects most candidates."""
    judged = [one for verdict in material.decision.verdicts for one in verdict.judgements]
    if not judged:
        return None
    counts = Counter(one.status for one in judged)
    said = [
        f"{_many(len(material.decision.criteria), 'criterion', 'criteria')} for "
        f"{_many(len(material.decision.verdicts), 'candidate', 'candidates')}: {counts[Status.MET]} met, "
        f"{counts[Status.NOT_MET]} not met, {counts[Status.UNDECIDED]} undecided."
    ]
    failed = Counter(f"{one.criterion.label} {one.criterion.wanted}" for one in judged if one.status is Status.NOT_MET)
    if failed:
        (name, most), *_ = failed.most_common(1)
        others = [other for other, count in failed.items() if count == most and other != name]
        said.append(f"Not met most often: {listed([name, *others])} ({_many(most, 'candidate', 'candidates')}).")
    return Words(text=" ".join(said))


def levels_opening(material: Material) -> Words | None:
    """What fewer bits lose, and what they save in memory."""
    known = [(row, found) for row in material.decision.table.rows if (found := row.difference()) is not None]
    rows = [(row.candidate, one.value, one.low, one.high) for row, one in known if None not in {one.low, one.high}]
    said = []
    if rows:
        said.append(findings.losses(pd.DataFrame(rows, columns=["candidate", "difference", "low", "high"])))
    solved = solved_frame(material)
    if len(solved) and len(measured := solved.dropna(subset=["pass_rate", "peak_bytes"])):
        said.append(findings.memory_saved(measured))
    return Words(text=" ".join(said)) if said else None


def marks_opening(material: Material) -> Words:
    """How far people agree, and whether the judge model counts."""
    marking = material.marking
    replies = _many(len(marking.items), "reply", "replies")
    said = [f"{_many(len(marking.marks), 'mark', 'marks')} by people on {replies}."]
    pairs = [(one.kappa.value, one) for one in marking.agreements if one.kappa is not None]
    if pairs:
        kappa, worst = min(pairs, key=lambda pair: pair[0])
        said.append(f"Least in agreement: {worst.who} with {worst.with_whom}, weighted kappa {kappa:.2f}.")
    for trust in marking.trusts:
        why = marking.unused.get(trust.judge)
        said.append(f"{trust.judge} is shown and not used: {why}." if why else f"The marks of {trust.judge} count.")
    return Words(text=" ".join(said))


def evidence_opening(material: Material) -> Words:
    """What the verdicts rest on, and whether anything was changed since it was signed."""
    trials, timed = material.decision.table.trials, material.timed
    # rigs may share answers: a trial counts once
    asked = trials["id"].nunique() if len(trials) else 0
    said = [f"The verdicts rest on {asked:,} trials and {len(timed):,} timed requests."]
    left_out = sum(row.disturbed for row in material.decision.table.rows)
    if left_out:
        said.append(f"{_many(left_out, 'request was', 'requests were')} disturbed and left out.")
    if material.audit.faults:
        said.append(f"The record was changed since it was signed: {material.audit.faults[0]}.")
    elif material.audit.signatures:
        said.append("Nothing in the record was changed since it was signed.")
    return Words(text=" ".join(said))


def _many(count: int, one: str, several: str) -> str:
    return f"{count:,} {one if count == 1 else several}"


def correctness_opening(material: Material) -> Words | None:
    """What everybody and nobody solved, and in which kind or language a level loses beyond chance."""
    counted = counted_trials(material.decision.table.trials)
    if counted.empty:
        return None
    solved = counted.groupby(["exercise", "candidate"])["passed"].mean().unstack()
    asked = solved.dropna()  # by every candidate: where some stop early, the others say nothing of all
    every, nobody = int((asked == 1).all(axis=1).sum()), sorted(asked.index[(asked == 0).all(axis=1)])
    names = (
        f" ({', '.join(map(str, nobody[:MOST_NAMED]))}{' ...' if len(nobody) > MOST_NAMED else ''})" if nobody else ""
    )
    said = [
        f"Of {len(asked)} exercises that every candidate was asked, {every} are solved by all in every sample and "
        f"{len(nobody)} by none{names}."
    ]
    rows, exercises = material.decision.table.rows, exercise_rows(material.record)
    for grouping in ("kind", "language"):
        said.append(_losses(grouping, group_losses(rows, counted, exercises, grouping)))
    return Words(text=" ".join(filter(None, said)))


def _losses(grouping: str, losses: tuple[GroupLoss, ...]) -> str:
    """In which groups levels lose beyond chance; else how large a loss would have to be before it shows."""
    if not losses:
        return ""
    shown = sorted((one for one in losses if one.is_shown), key=lambda one: one.p_adjusted)
    if shown:
        parts = [
            f"{one.candidate} in {one.group} ({one.lost} of {one.exercises} exercises lost, {one.won} won, "
            f"p {p_words(one.p_adjusted)} by Holm)"
            for one in shown[:MOST_NAMED]
        ]
        more = f", and {len(shown) - MOST_NAMED} more" if len(shown) > MOST_NAMED else ""
        return f"By {grouping}, these lose against their reference beyond chance: {'; '.join(parts)}{more}."
    needed, largest = least_shown(len(losses)), max(one.exercises for one in losses)
    if needed > largest:
        return (
            f"No {grouping} is asked enough to show a loss of its own: {needed} exercises would have to be lost and "
            f"none won, and none has more than {largest}."
        )
    return f"In no {grouping} a loss is shown beyond chance; {needed} exercises lost and none won would show one."


def speed_opening(material: Material) -> Words | None:
    """Which candidate decodes fastest, and on which the rate falls with depth."""
    rates = {
        row.candidate: found
        for row in material.decision.table.rows
        if "decode_tps" not in row.doubts and (found := row.quantile("decode_tps.p50", confidence=0.95)) is not None
    }
    if not rates:
        return None
    fastest, slowest = (pick(rates, key=lambda name: rates[name].value) for pick in (max, min))
    said = f"{fastest} decodes fastest, {rates[fastest].value:,.0f} tokens/s in the middle"
    if len(rates) > 1 and _apart(rates[fastest], rates[slowest]):
        times = rates[fastest].value / rates[slowest].value
        said += f", {times:.1f} times as fast as the slowest, {slowest}"
    elif len(rates) > 1:
        said += f", which is not shown to be faster than the slowest, {slowest}"
    return Words(text=" ".join(filter(None, (f"{said}.", _depth(material)))))


def _apart(high: Estimate, low: Estimate) -> bool:
    return high.low is not None and low.high is not None and high.low > low.high


def _depth(material: Material) -> str:
    """On which candidate the decode rate falls most from the shallowest to the deepest that was timed."""
    falls: dict[str, tuple[float, str, str]] = {}
    timed = False
    for timing in material.timings:
        cells = [cell for cell in timing.depth.cells if cell.decode_tps is not None and not cell.doubt]
        if len(cells) > 1:
            timed = True
            first, last = cells[0].decode_tps, cells[-1].decode_tps
            assert first is not None and last is not None  # noqa: S101 - those without were left out
            if not _apart(first, last):
                continue
            falls[timing.candidate] = (1 - last.value / first.value, cells[0].label, cells[-1].label)
    if not falls:
        return "With depth no rate is shown to fall." if timed else ""
    name = max(falls, key=lambda one: falls[one][0])
    fall, shallow, deep = falls[name]
    if fall < LEAST_FALL:
        return f"From a depth of {shallow} to {deep} no rate falls by {LEAST_FALL:.0%} or more."
    return f"From a depth of {shallow} to {deep} the rate falls most on {name}: by {fall:.0%}."


def memory_opening(material: Material) -> Words | None:
    """Who takes most against the budget, and whose memory grows with every request."""
    peaks = {row.candidate: row.peak_bytes for row in material.decision.table.rows if row.peak_bytes is not None}
    if not peaks:
        return None
    most, least = max(peaks, key=lambda name: peaks[name]), min(peaks, key=lambda name: peaks[name])
    said = [f"{most} takes most, {format_bytes(peaks[most])}" + (
        f"; {least} least, {format_bytes(peaks[least])}." if len(peaks) > 1 else "."
    )]  # fmt: skip
    budget = material.decision.budget_bytes
    if budget is not None:
        over = [name for name, peak in peaks.items() if peak > budget]
        named = f"{len(over)} of {len(peaks)} exceed" if len(over) != 1 else f"{over[0]} exceeds"
        said.append(f"{named} the budget of {format_bytes(budget)}." if over else "All stay within the budget.")
    watched = [one for one in material.memories if one.leak_bytes is not None and one.leak_bytes.low is not None]
    leaking = [one.candidate for one in watched if one.leaks]
    if leaking:
        said.append(f"Memory grows with every request on {', '.join(leaking)}.")
    elif watched:
        highs = (one.leak_bytes.high for one in watched if one.leak_bytes is not None)
        bounds = [high for high in highs if high is not None]
        highest = max(bounds, default=0.0)
        excluded = f"; more than {format_bytes(round(highest))} a request is excluded" if highest > 0 else ""
        said.append(f"On none of {len(watched)} it is shown to grow with every request{excluded}.")
    return Words(text=" ".join(said))
