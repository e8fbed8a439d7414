"""The table of ``kettlefield compare``: solved, against the reference level, by suite, speed."""

import dataclasses
from pathlib import Path
from typing import Any, Literal

from rich.console import Console
from rich.text import Text

from kettlefield.cli.console import (
    candidate_name,
    chosen,
    estimate_json,
    make_console,
    make_table,
    print_csv,
    print_heading,
    print_json,
    print_note,
    print_table,
    safe,
)
from kettlefield.core.measures import MEASURES, Unit
from kettlefield.core.statistics.estimate import in_unit, interval_words, p_words
from kettlefield.core.statistics.paired import score_interval
from kettlefield.core.statistics.power import minimum_detectable_drop
from kettlefield.core.units import format_bytes, three_digits
from kettlefield.record.store import Record
from kettlefield.results.capacity import Floor, floor_of
from kettlefield.results.comparison import Comparison, Figures, compare, ends_of_scale, on_frontier
from kettlefield.results.frames import not_measured, notes
from kettlefield.results.paired_comparison import mixed_settings
from kettlefield.views.speed_table import speed_table

Shape = Literal["table", "json", "csv"]


def show_comparison(
    path: Path,
    only: str | None = None,
    *,
    shape: Shape = "table",
    name_pairs: bool = False,
    against: str | None = None,
) -> None:
    """Print a record's candidates side by side."""
    record = Record.open(path)
    table = compare(record, reference=against)
    table = dataclasses.replace(table, rows=tuple(chosen(table.rows, only)))
    mixed = mixed_settings(record)
    if shape == "json":
        print_json(
            {
                "simulated": table.simulated,
                "suite": table.suite,
                "suite_digest": table.suite_digest,
                "frontier": on_frontier(table.rows),
                "not_measured": not_measured(record),
                "candidates": [{**_as_json(row), "mixed": mixed.get(row.candidate)} for row in table.rows],
            }
        )
    elif shape == "csv":
        rows = [
            {"simulated": table.simulated, "suite_digest": table.suite_digest, **_as_json(row)} for row in table.rows
        ]
        print_csv(rows)
    else:
        named = [f"{row.candidate}: {mixed[row.candidate]}" for row in table.rows if row.candidate in mixed]
        _print(table, [*named, *notes(record)], floor_of(record), name_pairs=name_pairs)


def _as_json(row: Figures) -> dict[str, Any]:

    document: dict[str, Any] = {
        "candidate": row.candidate,
        "reference": row.reference,
        "baseline": row.baseline,
        "planned": row.planned,
        "trials": row.trials,
        "solved": row.solved,
        "solved_after_repair": row.solved_after_repair,
        "score": row.score,
        "pass_at_k": row.pass_at_k,
        "faults": row.faults,
        "pass_rate": estimate_json(row.pass_rate),
    }
    for name, measure in MEASURES.items():
        if measure.field is not None:
            field, _, quantile = name.rpartition(".")
            document.setdefault(field, {})[quantile] = estimate_json(row.estimate(measure, confidence=0.95))
    for name in ("peak_bytes", "host_peak_bytes", "accelerator_peak_bytes", "load_s", "weights_bytes"):
        document[name] = getattr(row, name)
    document["load_kind"], document["peak_spread_bytes"] = row.load_kind, row.peak_spread_bytes
    document["doubts"] = row.doubts
    for name in ("predicted_bytes", "prediction_error", "decode_ceiling_tps", "ceiling_share", "licence"):
        document[name] = getattr(row, name)
    for name in (
        "disturbed",
        "thinking_tokens",
        "answer_tokens",
        "answer_ttft_s",
        "tokens_per_solved",
        "seconds_per_solved",
        "byte_seconds_per_solved",
        "concurrency",
        "outcomes",
    ):
        document[name] = getattr(row, name)
    document["against"] = _against_json(row)
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
        {"suites": pair.suites, "exercises": pair.gap.exercises, "difference": pair.gap.difference, "p": pair.gap.p}
        for pair in row.seeds
    ]
    return document


def _against_json(row: Figures) -> dict[str, Any] | None:

    if row.against is None:
        return None
    pairs = row.against.pairs
    return {
        "reference": row.against.reference,
        "pairs": pairs.pairs,
        "exercises": pairs.exercises,
        "counted_pairs": pairs.counted,
        "pairs_won": pairs.won,
        "pairs_lost": pairs.lost,
        "difference": estimate_json(score_interval(pairs)),
        "exercises_won": row.against.won,
        "exercises_lost": row.against.lost,
        "p": row.against.p,
        "p_adjusted": row.against.p_adjusted,
        "minimum_detectable_drop": minimum_detectable_drop(pairs),
    }


def _print(table: Comparison, notes: list[str], floor: Floor, *, name_pairs: bool) -> None:

    console = make_console()
    print_heading(console, table.title, simulated=table.simulated)
    console.print(safe(f"suite {table.suite} ({table.suite_digest[:19]}), {table.exercises} exercises"))
    solved = make_table(
        "candidate",
        ">solved",
        ">pass rate",
        "95 % interval",
        ">peak memory",
        ">predicted",
        ">tokens/solved",
        ">s/solved",
        "other outcomes",
    )
    for row in table.rows:
        solved.add_row(*_solved_cells(row))
    print_table(console, solved)
    _print_against(console, table, name_pairs=name_pairs)
    for line in ends_of_scale(table.rows):
        console.print(safe(line, "yellow"))
    _print_suites(console, table)
    heads, cells = speed_table(table.rows, floor)
    speed = make_table("candidate", *heads)
    for row, found in zip(table.rows, cells, strict=True):
        speed.add_row(_name(row), *found)
    print_table(console, speed)
    best = on_frontier(table.rows)
    if len(table.rows) > 1 and best:
        words = "Pareto-optimal (pass rate, memory, s/solved; differences beyond the intervals)"
        console.print(safe(f"{words}: {', '.join(best)}"))
    most = max((row.concurrency for row in table.rows), default=0)
    print_note(
        console,
        "p: quantiles of n requests timed one at a time, with the 95 % interval; ?: n is too small for that bound.\n"
        f"s/solved: request time of all trials over those solved, up to {most} at once.\n"
        "Peak memory: the server's host share (PSS) and accelerator memory together. * marks the reference level.",
    )
    if any(row.disturbed for row in table.rows):
        print_note(
            console,
            "disturbed: the host was busy with something else, hot or swapping. Such requests are left out; where too\n"
            "few are left, the figure is called disturbed and decides nothing: qualify PLAN --again speed repeats it.",
        )
    for text in notes:
        console.print(safe(f"! {text}", "yellow"))


def _print_against(console: Console, table: Comparison, *, name_pairs: bool) -> None:
    """Each level against its model's reference level, on the same exercises."""
    rows = [(row, row.against) for row in table.rows if row.against is not None]
    if not rows:
        return
    heads = (
        *(">pairs", ">only it passed", ">only the reference", ">difference", "95 % interval", ">p", ">p, Holm"),
        ">minimum detectable drop",
    )
    against = make_table("candidate", "against", *heads)
    for row, found in rows:
        gap = score_interval(found.pairs)
        against.add_row(
            _name(row),
            safe(found.reference),
            str(found.pairs.pairs),
            str(found.pairs.won),
            str(found.pairs.lost),
            f"{gap.value:+.2f}",
            f"{gap.low:+.2f} to {gap.high:+.2f}",
            p_words(found.p),
            p_words(found.p_adjusted),
            "-" if (drop := minimum_detectable_drop(found.pairs)) is None else f"-{drop:.2f}",
        )
    print_table(console, against)
    print_note(
        console,
        "difference in pass rate on the same exercises and samples, with Tango's score interval; p: exact, over\n"
        "exercises won and lost; Holm: adjusted for the levels of a model looked at together. Could notice: the\n"
        "smallest true drop that this many pairs, differing as often as these, show in 80 of 100 campaigns.",
    )
    if any(len(row.suites) > 1 for row, _ in rows):
        console.print("Here pairs of all suites count equally, whatever the weights of the suites.", style="yellow")
    if name_pairs:
        for row, found in rows:
            for word, names in (("won", found.won), ("lost", found.lost)):
                console.print(safe(f"{row.candidate} {word}: {', '.join(names) or 'none'}"))


def _print_suites(console: Console, table: Comparison) -> None:
    """What each candidate solved of each suite, where there are several; and one suite on two seeds."""
    if any(len(row.suites) > 1 for row in table.rows):
        apart = make_table("candidate", "suite", ">weight", ">solved", ">pass rate", "95 % interval")
        for row in table.rows:
            for part in row.suites:
                found = part.estimate(confidence=0.95)
                apart.add_row(
                    _name(row),
                    safe(part.suite),
                    f"{part.weight:g}",
                    f"{part.solved} of {part.trials}",
                    in_unit(found.value if found else None, Unit.RATIO),
                    interval_words(found, Unit.RATIO),
                )
        print_table(console, apart)
        print_note(console, "The pass rate above is the mean of the suites' by weight.")
    if any(row.seeds for row in table.rows):
        seeds = make_table("candidate", "first seed", "other seed", ">exercises that vary", ">gap", ">p")
        for row in table.rows:
            for pair in row.seeds:
                gap = pair.gap
                seeds.add_row(
                    _name(row),
                    *(safe(name) for name in pair.suites),
                    str(gap.exercises),
                    f"{gap.difference:+.2f}",
                    p_words(gap.p),
                )
        print_table(console, seeds)
        print_note(
            console,
            "gap: share solved on the first seed less that on the other, the same exercises with other values;\n"
            "p: chance of a gap this large if both were equally hard. A large gap is a sign of memorised answers.",
        )


def _solved_cells(row: Figures) -> list[str | Text]:

    others = [f"{count} passed after {turns} repair" for turns, count in row.solved_after_repair.items()]
    others += [f"{count} {name}" for name, count in row.outcomes.items() if name != "passed"]
    return [
        _name(row),
        f"{row.solved} of {row.trials}" + (f" (planned {row.planned})" if row.trials < row.planned else ""),
        in_unit(row.pass_rate.value if row.pass_rate else None, Unit.RATIO),
        interval_words(row.pass_rate, Unit.RATIO),
        format_bytes(row.peak_bytes),
        _predicted(row),
        f"{row.tokens_per_solved:,.0f}" if row.tokens_per_solved else "-",
        three_digits(row.seconds_per_solved) if row.seconds_per_solved else "-",
        ", ".join(others) or "none",
    ]


def _predicted(row: Figures) -> str:

    error = f" (off {row.prediction_error:.0%})" if row.prediction_error is not None else ""
    return format_bytes(row.predicted_bytes) + error


def _name(row: Figures) -> Text:

    return candidate_name(row.candidate, reference=row.reference, baseline=row.baseline)
