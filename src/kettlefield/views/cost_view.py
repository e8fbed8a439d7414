"""What a solution costs, and what repair turns and further samples add."""

from collections.abc import Sequence

from kettlefield.record.store import Record
from kettlefield.results.comparison import Figures, compare
from kettlefield.results.frames import not_measured
from kettlefield.results.memory_use import memories
from kettlefield.views.choice import candidate_text, chosen, estimate_json
from kettlefield.views.table import (
    Align,
    Column,
    Table,
    View,
    Words,
    number,
    present,
    share,
    signed_size,
    size,
    table,
    words,
)


def cost_view(record: Record, only: str | None = None) -> View:
    """Time, tokens, memory and energy for each solved exercise."""
    found = compare(record)
    rows = chosen(found.rows, only)
    joules = {one.candidate: one.joules_per_solved for one in memories(record)}
    references = {row.model: row for row in found.rows if row.reference}
    costs = table(
        "Cost of a solved exercise",
        [
            words("candidate"),
            Column(name="solved", align=Align.RIGHT),
            *(number(f"{unit}/solved") for unit in ("s", "tokens", "GiB x s", "J")),
            size("peak memory"),
            signed_size("than its reference"),
        ],
        [
            (
                candidate_text(row),
                f"{row.solved} of {row.trials}",
                row.seconds_per_solved or None,
                row.tokens_per_solved or None,
                row.byte_seconds_per_solved / 2**30 if row.byte_seconds_per_solved else None,
                joules[row.candidate] or None,
                row.peak_bytes,
                _difference(row, references.get(row.model)),
            )
            for row in rows
        ],
        note="All trials pay, those solved count. Tokens are the model's own and differ between models. J: a dash "
        "where this "
        "machine has no energy counter.",
    )
    return View(
        title=found.title,
        simulated=found.simulated,
        parts=present(costs, *left_out_words(record)),
        document={
            "simulated": found.simulated,
            "candidates": [
                {
                    "candidate": row.candidate,
                    "solved": row.solved,
                    "seconds_per_solved": row.seconds_per_solved,
                    "tokens_per_solved": row.tokens_per_solved,
                    "byte_seconds_per_solved": row.byte_seconds_per_solved,
                    "joules_per_solved": joules[row.candidate],
                    "peak_bytes": row.peak_bytes,
                    "peak_bytes_less_reference": _difference(row, references.get(row.model)),
                }
                for row in rows
            ],
        },
    )


def solved_view(record: Record, only: str | None = None) -> View:
    """At the first attempt, after repair turns, in several samples, in part."""
    found = compare(record)
    rows = chosen(found.rows, only)
    return View(
        title=found.title,
        simulated=found.simulated,
        parts=present(attempts_table(rows), *left_out_words(record)),
        document={
            "simulated": found.simulated,
            "candidates": [
                {
                    "candidate": row.candidate,
                    "trials": row.trials,
                    "pass_rate": estimate_json(row.pass_rate),
                    "solved": row.solved,
                    "solved_after_repair": row.solved_after_repair,
                    "score": row.score,
                    "pass_at_k": row.pass_at_k,
                }
                for row in rows
            ],
        },
    )


def attempts_table(rows: Sequence[Figures]) -> Table | None:
    """pass@1, what repair turns add, and pass@k."""
    turns = sorted({turn for row in rows for turn in row.solved_after_repair})
    samples = sorted({k for row in rows for k in row.pass_at_k if k > 1})
    return table(
        "pass@1, repair turns and pass@k",
        [
            words("candidate"),
            share("pass@1 (95 % interval)"),
            *(share(f"after {turn} repair") for turn in turns),
            share("mean score"),
            *(share(f"pass@{k}") for k in samples),
        ],
        [
            (
                candidate_text(row),
                row.pass_rate,
                *(_repaired(row, turn) for turn in turns),
                row.score,
                *(row.pass_at_k.get(k) for k in samples),
            )
            for row in rows
        ],
        note="After n repair: solved with at most n repair turns. Score: weighted share of the checks that passed. "
        "pass@k: "
        "chance that at least one of k samples passes, in the mean over exercises, by the unbiased estimator. * "
        "marks the "
        "reference level.",
    )


def _repaired(row: Figures, turns: int) -> float | None:
    """What a user who sends errors back at most this often would have got."""
    if not row.trials:
        return None
    return (row.solved + sum(number for turn, number in row.solved_after_repair.items() if turn <= turns)) / row.trials


def left_out_words(record: Record) -> tuple[Words, ...]:
    """Exercises that could not be asked on the rig: no table is without the word."""
    return tuple(Words(text=text, tone="warning") for text in not_measured(record))


def _difference(row: Figures, reference: Figures | None) -> int | None:
    """Peak memory less that of the reference level, in bytes."""
    if reference is None or row.reference or row.peak_bytes is None or reference.peak_bytes is None:
        return None
    return row.peak_bytes - reference.peak_bytes
