"""Trials of a record in a list."""

from collections.abc import Sequence
from typing import Any

from kettlefield.record.store import Record
from kettlefield.results.rows import not_measured
from kettlefield.views.table import (
    Align,
    Column,
    Table,
    View,
    Words,
    count,
    duration,
    number,
    percent,
    present,
    table,
    words,
)

_JSON_FIELDS = (
    *("id", "candidate", "exercise", "sample", "seed", "context_fill", "outcome", "score", "attempts", "ttft_s"),
    *("answer_ttft_s", "decode_tps", "completion_tokens", "finish_reason", "concurrency", "finished_s"),
)


def trials_view(record: Record, rows: Sequence[dict[Any, Any]]) -> View:
    """The trials of a record that are chosen, as `results.rows.trial_rows` has them."""
    plain = [{name: _plain(row[name]) for name in _JSON_FIELDS} for row in rows]
    return View(
        title="",
        simulated=False,
        parts=present(
            trials_table(plain),
            Words(text=f"{len(rows)} trials; --open ID shows one whole", tone="small"),
            *(Words(text=text, tone="warning") for text in not_measured(record)),
        ),
        document={"trials": plain, "not_measured": not_measured(record)},
    )


def trials_table(rows: Sequence[dict[str, Any]]) -> Table | None:
    """One row a trial."""
    first = ("id", "candidate", "exercise", "sample")
    names = ("outcome", "score", "completion_tokens", "ttft_s", "decode_tps", "concurrency")
    has_fills = any(row["context_fill"] for row in rows)
    return table(
        "Trials",
        [
            Column(name="id", align=Align.RIGHT),
            words("candidate"),
            words("exercise"),
            count("sample"),
            *((percent("context"),) if has_fills else ()),
            words("outcome"),
            Column(name="score", align=Align.RIGHT, show="{:.2f}".format),
            count("tokens"),
            duration("TTFT"),
            number("decode", "tokens/s"),
            count("concurrency"),
        ],
        [
            (
                *(row[name] for name in first),
                *((row["context_fill"],) if has_fills else ()),
                *(row[name] for name in names),
            )
            for row in rows
        ],
    )


def _plain(value: Any) -> Any:
    """A value as JSON has it: whole numbers without a point."""
    return int(value) if isinstance(value, float) and value.is_integer() and abs(value) < 2**53 else value
