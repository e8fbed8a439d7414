"""Candidates side by side: what each solved, against the reference level, by suite, and how fast it is."""

from collections.abc import Sequence
from typing import Any

import msgspec

from kettlefield.core.statistics.estimate import Estimate, p_words
from kettlefield.core.statistics.paired import score_interval
from kettlefield.core.statistics.power import minimum_detectable_drop
from kettlefield.core.units import format_duration
from kettlefield.record.store import Record
from kettlefield.results.capacity import Floor, floor_of
from kettlefield.results.comparison import QUANTILES, Comparison, Figures, compare, ends_of_scale, on_frontier
from kettlefield.results.frames import notes
from kettlefield.results.paired_comparison import Against, mixed_settings
from kettlefield.results.rows import not_measured
from kettlefield.views.table import (
    Align,
    Column,
    Table,
    View,
    Words,
    candidate_text,
    chosen,
    count,
    duration,
    estimate_json,
    line,
    number,
    percent,
    present,
    rate,
    share,
    signed,
    size,
    table,
    words,
)

SPEED = ("ttft_s.p50", "ttft_s.p95", "decode_tps.p50", "decode_tps.p10")
MARKS = "* marks the reference level."


AT_LOOKS = (
    "Candidates stop when they are decided: intervals are wide enough to hold at every look, and a figure at which one "
    "stopped is a little too far from its threshold."
)


def comparison_view(
    record: Record, only: str | None = None, *, against: str | None = None, pairs: bool = False
) -> View:
    """All of a record's candidates, every table with all its columns.

    Parameters
    ----------
    record : Record
        An open record.
    only : str, optional
        A pattern that a candidate's name must match.
    against : str, optional
        The candidate that all others are compared with; none: each model's reference level.
    pairs : bool
        Name the exercises won and lost.

    Raises
    ------
    InputError
        No campaign was begun, or a name or pattern matches nothing.
    """
    compared = compare(record, reference=against)
    compared = msgspec.structs.replace(compared, rows=tuple(chosen(compared.rows, only)))
    mixed = mixed_settings(record)
    best = on_frontier(compared.rows)
    frontier = f"Pareto-optimal (pass rate, memory, s/solved; differences beyond the intervals): {', '.join(best)}"
    named = [f"{row.candidate}: {mixed[row.candidate]}" for row in compared.rows if row.candidate in mixed]
    return View(
        title=compared.title,
        simulated=compared.simulated,
        parts=present(
            Words(text=f"suite {compared.suite} ({compared.suite_digest[:19]}), {compared.exercises} exercises"),
            solved_table(compared.rows),
            paired_table(compared.rows),
            kv_table(compared.rows),
            discordant_table(compared.rows) if pairs else None,
            *(Words(text=text, tone="warning") for text in ends_of_scale(compared.rows)),
            suites_table(compared.rows),
            seeds_table(compared.rows),
            speed_table(compared.rows, floor_of(record)),
            Words(text=frontier) if len(compared.rows) > 1 and best else None,
            *(Words(text=f"! {text}", tone="warning") for text in (*named, *notes(record))),
        ),
        document=comparison_document(record, compared),
    )


def comparison_document(record: Record, compared: Comparison) -> dict[str, Any]:
    """The JSON document of some of a record's candidates."""
    mixed = mixed_settings(record)
    return {
        "simulated": compared.simulated,
        "suite": compared.suite,
        "suite_digest": compared.suite_digest,
        "frontier": on_frontier(compared.rows),
        "not_measured": not_measured(record),
        "candidates": [{**figures_json(row), "mixed": mixed.get(row.candidate)} for row in compared.rows],
    }


def comparison_rows(record: Record, only: str | None, against: str | None) -> list[dict[str, Any]]:
    """One row a candidate, for CSV."""
    compared = compare(record, reference=against)
    shared = {"simulated": compared.simulated, "suite_digest": compared.suite_digest}
    return [{**shared, **figures_json(row)} for row in chosen(compared.rows, only)]


def solved_table(rows: Sequence[Figures]) -> Table | None:
    """What each candidate solved, and what that took."""
    most = max((row.concurrency for row in rows), default=0)
    return table(
        "What each solved, and what it took",
        [
            words("candidate"),
            Column(name="solved", align=Align.RIGHT),
            share("pass rate (95 % interval)"),
            size("peak memory"),
            size("predicted"),
            percent("error"),
            number("s/solved"),
            number("tokens/solved"),
            words("other outcomes"),
        ],
        [
            (
                candidate_text(row),
                f"{row.solved} of {row.trials}" + (f" (planned {row.planned})" if row.trials < row.planned else ""),
                row.pass_rate,
                row.peak_bytes,
                row.predicted_bytes,
                row.prediction_error,
                row.seconds_per_solved or None,
                row.tokens_per_solved or None,
                _others(row),
            )
            for row in rows
        ],
        note="Peak memory: the server's host share (PSS) and accelerator memory together. s/solved: request time "
        f"of all trials over those solved, concurrency up to {most}. {MARKS} Faults of server and rig count against "
        "nobody." + (f" {AT_LOOKS}" if any(row.looks for row in rows) else ""),
    )


def _others(row: Figures) -> str:
    others = [f"{number} passed after {turns} repair" for turns, number in row.solved_after_repair.items()]
    others += [f"{number} {name}" for name, number in row.outcomes.items() if name != "passed"]
    return ", ".join(others) or "none"


def paired_table(rows: Sequence[Figures]) -> Table | None:
    """Each level against its model's reference level, on the same exercises and samples."""
    paired = [(row, row.against) for row in rows if row.against is not None]
    title = "Against the reference level, on the same exercises"
    return _against_table(title, [(row, against, row.difference()) for row, against in paired])


def kv_table(rows: Sequence[Figures]) -> Table | None:
    """Each candidate with fewer bits in the KV cache against the same with 16, on the same exercises and samples."""
    paired = [(row, row.kv_against) for row in rows if row.kv_against is not None]
    title = "KV cache of fewer bits against 16 bits of the same level"
    return _against_table(title, [(row, against, score_interval(against.pairs)) for row, against in paired])


def _against_table(title: str, paired: Sequence[tuple[Figures, Against, Estimate | None]]) -> Table | None:
    several = any(len(row.suites) > 1 for row, _, _ in paired)
    return table(
        title,
        [
            words("candidate"),
            line("reference"),
            count("pairs"),
            count("won"),
            count("lost"),
            signed("difference (95 % interval)"),
            Column(name="p", align=Align.RIGHT, show=p_words),
            Column(name="p, Holm", align=Align.RIGHT, show=p_words),
            signed("minimum detectable drop"),
        ],
        [
            (
                candidate_text(row),
                against.reference,
                against.pairs.pairs,
                against.pairs.won,
                against.pairs.lost,
                difference,
                against.p,
                against.p_adjusted,
                None if (drop := minimum_detectable_drop(against.pairs)) is None else -drop,
            )
            for row, against, difference in paired
        ],
        note="Won and lost: discordant pairs. Difference in pass rate with Tango's score interval. p: exact, over "
        "exercises "
        "won and lost; Holm: adjusted for the levels of a model that are compared together. Minimum detectable drop: "
        "the "
        "smallest true drop that these pairs show in 80 of 100 campaigns."
        + (" Pairs of all suites count equally here, whatever the suites' weights." if several else ""),
    )


def discordant_table(rows: Sequence[Figures]) -> Table | None:
    """The exercises that a level won and lost against its reference level."""
    return table(
        "Exercises lost and won against the reference level",
        [words("candidate"), line("reference"), words("lost"), words("won")],
        [
            (
                candidate_text(row),
                row.against.reference,
                ", ".join(row.against.lost) or "none",
                ", ".join(row.against.won) or "none",
            )
            for row in rows
            if row.against is not None
        ],
    )


def suites_table(rows: Sequence[Figures]) -> Table | None:
    """What each candidate solved of each suite, where there are several."""
    if not any(len(row.suites) > 1 for row in rows):
        return None
    return table(
        "By suite",
        [
            words("candidate", once=True),
            words("suite"),
            number("weight"),
            Column(name="solved", align=Align.RIGHT),
            share("pass rate (95 % interval)"),
        ],
        [
            (
                candidate_text(row),
                part.suite,
                part.weight,
                f"{part.solved} of {part.trials}",
                part.estimate(confidence=0.95),
            )
            for row in rows
            for part in row.suites
        ],
        note="The pass rate above is the mean of the suites' pass rates by weight.",
    )


def seeds_table(rows: Sequence[Figures]) -> Table | None:
    """One suite on two seeds: a sign of memorised answers."""
    return table(
        "One suite on two seeds",
        [
            words("candidate"),
            words("first seed"),
            words("other seed"),
            count("exercises that vary"),
            signed("gap"),
            Column(name="p", align=Align.RIGHT, show=p_words),
            *(signed(f"correlation between {what}") for what in ("seeds", "samples")),
        ],
        [
            (
                *(candidate_text(row), *pair.suites, pair.gap.exercises, pair.gap.difference, pair.gap.p),
                *(pair.between_seeds, pair.between_samples),
            )
            for row in rows
            for pair in row.seeds
        ],
        note="Gap: share solved on the first seed less that on the other, the same exercises with other rules or "
        "values. p: chance of a gap this large if both seeds were equally hard. A large gap is a sign of memorised "
        "answers. Correlation: intra-class, 1 where both variants of an exercise (all "
        "samples of one) end the same, 0 where they have nothing to do with each other.",
    )


def speed_table(rows: Sequence[Figures], floor: Floor) -> Table | None:
    """Speed with one request at a time; no duration is shown below the stopwatch's own error."""
    kinds = {row.load_kind for row in rows if row.load_kind}
    kind = next(iter(kinds)) if len(kinds) == 1 else None
    disturbed = any(row.disturbed for row in rows)
    return table(
        "Speed, one request at a time",
        [
            words("candidate"),
            duration("TTFT p50", floor.show),
            duration("TTFT p95", floor.show),
            rate("decode p50"),
            rate("decode p10"),
            percent("of ceiling"),
            Column(name="n", align=Align.RIGHT),
            duration(f"load ({kind})" if kind else "load"),
        ],
        [(candidate_text(row), *_speed_cells(row, with_kind=kind is None)) for row in rows],
        note="Quantiles of n requests with the 95 % interval; ?: n is too small for that bound. Tokens are the "
        "model's own: "
        "across models compare seconds and memory per solved exercise. Ceiling: bandwidth over the bytes that one "
        "token reads."
        + (
            " Disturbed: the host was busy with something else, hot or swapping. Such requests are left out; where "
            "too few "
            "are left, the figure is called disturbed and decides nothing: qualify PLAN --again speed repeats it."
            if disturbed
            else ""
        ),
    )


def _speed_cells(row: Figures, *, with_kind: bool) -> tuple[Any, ...]:
    figures = [
        doubt.partition(":")[0]
        if (doubt := row.doubts.get(QUANTILES[name][0]))
        else row.quantile(name, confidence=0.95)
        for name in SPEED
    ]
    samples = str(len(row.speed["ttft_s"])) + (f", {row.disturbed} disturbed" if row.disturbed else "")
    load: Any = "disturbed" if "load_s" in row.doubts else row.load_s
    if with_kind and row.load_kind and isinstance(load, float):
        load = f"{format_duration(load)}, {row.load_kind}"
    return (*figures, row.ceiling_share, samples, load)


def figures_json(row: Figures) -> dict[str, Any]:
    """One candidate as the JSON contract has it."""
    document: dict[str, Any] = {
        name: getattr(row, name)
        for name in (
            *("candidate", "reference", "baseline", "planned", "trials", "solved", "solved_after_repair", "score"),
            *("pass_at_k", "faults"),
        )
    }
    document["pass_rate"] = estimate_json(row.pass_rate)
    for name in QUANTILES:
        field, _, quantile = name.rpartition(".")
        document.setdefault(field, {})[quantile] = estimate_json(row.quantile(name, confidence=0.95))
    document |= {
        name: getattr(row, name)
        for name in (
            *("peak_bytes", "host_peak_bytes", "accelerator_peak_bytes", "load_s", "weights_bytes", "load_kind"),
            *("peak_spread_bytes", "doubts", "predicted_bytes", "prediction_error", "decode_ceiling_tps"),
            *("ceiling_share", "licence", "disturbed", "thinking_tokens", "answer_tokens", "answer_ttft_s"),
            *("tokens_per_solved", "seconds_per_solved", "byte_seconds_per_solved", "concurrency", "outcomes"),
        )
    }
    document["against"], document["kv_against"] = (
        _against_json(row.against, row.difference()),
        _against_json(row.kv_against, score_interval(row.kv_against.pairs) if row.kv_against is not None else None),
    )
    document["suites"] = [
        {
            "suite": part.suite,
            "weight": part.weight,
            "trials": part.trials,
            "solved": part.solved,
            "pass_rate": estimate_json(part.estimate(confidence=0.95)),
        }
        for part in row.suites
    ]
    document["seed_gaps"] = [
        {
            "suites": pair.suites,
            "exercises": pair.gap.exercises,
            "difference": pair.gap.difference,
            "p": pair.gap.p,
            "correlation_between_seeds": estimate_json(pair.between_seeds),
            "correlation_between_samples": estimate_json(pair.between_samples),
        }
        for pair in row.seeds
    ]
    return document


def _against_json(against: Against | None, difference: Estimate | None) -> dict[str, Any] | None:
    if against is None:
        return None
    pairs = against.pairs
    return {
        "reference": against.reference,
        "pairs": pairs.pairs,
        "exercises": pairs.exercises,
        "counted_pairs": pairs.counted,
        "pairs_won": pairs.won,
        "pairs_lost": pairs.lost,
        "difference": estimate_json(difference),
        "exercises_won": against.won,
        "exercises_lost": against.lost,
        "p": against.p,
        "p_adjusted": against.p_adjusted,
        "minimum_detectable_drop": minimum_detectable_drop(pairs),
    }
