"""Tasks about a long text: what is solved by the text's length, and by where the needed parts stood in the prompt."""

from collections.abc import Sequence
from typing import Any

from kettlefield.record.store import Record
from kettlefield.results.frames import campaign_facts
from kettlefield.results.needed_parts import Asked, PartsFigures, asked_about_texts, by_length, by_place
from kettlefield.views.fill_view import FILL
from kettlefield.views.table import (
    Column,
    Table,
    View,
    Words,
    chosen,
    count,
    estimate_json,
    line,
    present,
    share,
    table,
    words,
)


def needed_parts_view(record: Record, only: str | None = None) -> View:
    """All of a record's candidates.

    Raises
    ------
    InputError
        No campaign was begun, or the pattern matches nothing.
    """
    facts = campaign_facts(record)
    every = asked_about_texts(record)
    rows = chosen(every, only) if every else []
    nothing = 'no exercise about a long text was asked: exercises of kind "refer" are'
    return View(
        title=facts["title"],
        simulated=facts["simulated"],
        parts=present(Words(text=nothing) if not every else None, *needed_parts_tables(rows)),
        document={
            "simulated": facts["simulated"],
            "by_place": [_json(one) for one in by_place(rows)],
            "by_length": [_json(one) for one in by_length(rows)],
            "exercises": [_exercise_json(row) for row in rows],
        },
    )


def needed_parts_tables(rows: Sequence[Asked]) -> tuple[Table, ...]:
    """By place, by length, and each exercise by itself."""
    return present(
        _figures_table(
            "Tasks about a long text, by where the needed parts stood",
            "needed parts",
            by_place(rows),
            "Thirds of the whole prompt, files before the exercise included. Several places: the task needs parts of "
            "more than one third. Over context: the prompt does not fit, and the trial is not passed.",
        ),
        _figures_table(
            "Tasks about a long text, by its length",
            "text",
            by_length(rows),
            "Characters of the text alone. Prompt tokens: median over the exercises, as the server counts.",
        ),
        table(
            "Each task about a long text",
            [
                words("candidate", once=True),
                FILL,
                line("exercise"),
                words("text"),
                count("prompt", "tokens"),
                Column(name="needed parts at", unit="tokens", show=_places),
                words("passed"),
            ],
            [
                (
                    *(row.candidate, row.fill or 0.0, row.exercise, row.text, row.prompt_tokens),
                    *(row.needed_tokens or None, f"{row.passed} of {row.trials}"),
                )
                for row in rows
            ],
            folded=True,
        ),
    )


def _figures_table(title: str, group: str, figures: Sequence[PartsFigures], note: str) -> Table | None:
    return table(
        title,
        [
            words("candidate", once=True),
            FILL,
            line(group),
            count("exercises"),
            count("trials"),
            count("over context"),
            count("prompt", "tokens"),
            share("pass rate"),
        ],
        [
            (
                *(one.candidate, one.fill or 0.0, one.group, one.exercises, one.trials, one.over_context),
                *(one.prompt_tokens, one.pass_rate),
            )
            for one in figures
        ],
        note=note,
    )


def _places(tokens: tuple[int, ...]) -> str:
    return ", ".join(f"{token:,}" for token in sorted(tokens))


def _json(one: PartsFigures) -> dict[str, Any]:
    return {
        "candidate": one.candidate,
        "context_fill": one.fill or 0.0,
        "group": one.group,
        "exercises": one.exercises,
        "trials": one.trials,
        "over_context": one.over_context,
        "prompt_tokens": one.prompt_tokens,
        "pass_rate": estimate_json(one.pass_rate),
    }


def _exercise_json(row: Asked) -> dict[str, Any]:
    return {
        "candidate": row.candidate,
        "context_fill": row.fill or 0.0,
        "exercise": row.exercise,
        "text": row.text,
        "text_chars": row.text_chars,
        "prompt_tokens": row.prompt_tokens,
        "needed_at": list(row.needed),
        "needed_at_tokens": list(row.needed_tokens),
        "passed": row.passed,
        "over_context": row.over_context,
        "trials": row.trials,
    }
