"""Correctness as the context fills: what files before the task take from a candidate, in passes, time and memory."""

from collections.abc import Sequence
from typing import Any

from kettlefield.record.store import Record
from kettlefield.results.context_fill import FillFigures, context_fills
from kettlefield.results.frames import campaign_facts
from kettlefield.views.table import (
    Column,
    Table,
    View,
    Words,
    chosen,
    count,
    duration,
    estimate_json,
    number,
    present,
    share,
    signed,
    size,
    table,
    words,
)


def fill_view(record: Record, only: str | None = None) -> View:
    """All of a record's candidates.

    Raises
    ------
    InputError
        No campaign was begun, or the pattern matches nothing.
    """
    facts = campaign_facts(record)
    every = context_fills(record)
    rows = chosen(every, only) if every else []
    nothing = "nothing was asked with files before the task: [grading] context_fill in the plan asks for it"
    return View(
        title=facts["title"],
        simulated=facts["simulated"],
        parts=present(Words(text=nothing) if not every else None, fill_table(rows), fill_pairs_table(rows)),
        document={"simulated": facts["simulated"], "fills": [_json(row) for row in rows]},
    )


def _fill_words(value: Any) -> str:
    return f"{value:.0%} full" if value else "exercise alone"


FILL = Column(name="context", show=_fill_words)


def fill_table(rows: Sequence[FillFigures]) -> Table | None:
    """One row a candidate and fill."""
    return table(
        "As the context fills",
        [
            words("candidate", once=True),
            FILL,
            count("trials"),
            share("pass rate"),
            signed("difference"),
            number("p"),
            count("prompt", "tokens"),
            duration("TTFT"),
            duration("whole reply"),
            size("peak memory"),
        ],
        [
            (
                *(row.candidate, row.fill or 0.0, row.trials, row.pass_rate, row.difference, row.p, row.prompt_tokens),
                *(row.ttft_s, row.reply_s, row.peak_bytes),
            )
            for row in rows
        ],
        note="Project files stand before the task, until both together take that share of the context. Difference of "
        "pass rates to the exercise alone, paired by exercise and sample, 95 % intervals; p exact, of equal rates. "
        "Prompt, TTFT and whole reply are medians of the last attempts.",
    )


def fill_pairs_table(rows: Sequence[FillFigures]) -> Table | None:
    """The exercises that were won and lost."""
    return table(
        "Won and lost against the exercise alone",
        [words("candidate", once=True), FILL, words("lost"), words("won")],
        [
            (row.candidate, row.fill, ", ".join(row.lost) or "none", ", ".join(row.won) or "none")
            for row in rows
            if row.fill is not None
        ],
        folded=True,
    )


def _json(row: FillFigures) -> dict[str, Any]:
    return {
        "candidate": row.candidate,
        "context_fill": row.fill or 0.0,
        "trials": row.trials,
        "pass_rate": estimate_json(row.pass_rate),
        "difference": estimate_json(row.difference),
        "lost": list(row.lost),
        "won": list(row.won),
        "p": row.p,
        "prompt_tokens": row.prompt_tokens,
        "ttft_s": row.ttft_s,
        "reply_s": row.reply_s,
        "peak_bytes": row.peak_bytes,
    }
