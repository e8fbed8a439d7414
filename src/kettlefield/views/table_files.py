"""Trials and timed samples as CSV or Parquet, with their data dictionary beside them."""

import json
from dataclasses import dataclass
from pathlib import Path
from typing import Literal

import pandas as pd
import sqlalchemy as sa

from kettlefield.core.errors import InputError
from kettlefield.record import schema
from kettlefield.record.store import Record
from kettlefield.results.frames import campaign_facts, trials_frame
from kettlefield.results.speed import timed_frame


@dataclass(frozen=True, slots=True, kw_only=True)
class Column:
    """One column of a table."""

    name: str
    unit: str  # empty: none
    meaning: str


def _columns(*rows: tuple[str, str, str]) -> tuple[Column, ...]:
    return tuple(Column(name=name, unit=unit, meaning=meaning) for name, unit, meaning in rows)


TRIALS = _columns(
    ("id", "", "number of the trial in the record"),
    ("candidate", "", "model@level"),
    ("simulated", "", "whether the campaign measured made-up models"),
    ("suite", "", "the exercise's suite, with its seed and selection"),
    ("exercise", "", "the exercise's id"),
    ("kind", "", "what it asks for: write, repair, extend ..."),
    ("language", "", "the language that it asks for"),
    ("difficulty", "", "1 (easy) to 5 (hard)"),
    ("topics", "", "divided by commas"),
    ("sample", "", "1, 2 ...: how often the exercise was asked"),
    ("seed", "", "sent with the request"),
    ("outcome", "", "how the trial ended, repair turns included; server-fault and rig-fault count against nobody"),
    ("first_outcome", "", "how it would have ended without repair turns"),
    ("score", "share", "weighted share of the checks that passed in the last attempt"),
    ("attempts", "", "requests that were graded: turns and repair turns"),
    ("concurrency", "requests", "most requests under way at once during the last attempt's"),
    ("prompt_tokens", "tokens", "of the last attempt's prompt, as the server counts"),
    ("completion_tokens", "tokens", "of its reply, thinking included"),
    ("thinking_tokens", "tokens", "of these, thinking"),
    ("ttft_s", "s", "request fully written until the first event with text"),
    ("answer_ttft_s", "s", "the same until the first that is not thinking"),
    ("decode_tps", "tokens/s", "(tokens - 1) / (last - first); beside others in flight, so no latency figure"),
    ("finished_s", "s", "request fully written until the reply's end"),
    ("finish_reason", "", "as the server gives it"),
)

SAMPLES = _columns(
    ("candidate", "", "model@level"),
    ("simulated", "", "whether the campaign measured made-up models"),
    ("purpose", "", "the procedure that timed it: latency, depth, system, uncached, cached, clients, arrivals, leak"),
    ("point", "", "what of the procedure, as JSON: lengths asked for, depth, number of clients, rate"),
    ("disturbed", "", "why this sample is disturbed; empty: it was not"),
    ("concurrency", "requests", "most requests under way at once"),
    ("scheduled_lag_s", "s", "sent this long after its scheduled moment; latency under a schedule counts from there"),
    ("prompt_tokens", "tokens", "as the server counts"),
    ("completion_tokens", "tokens", "as counted by token_count"),
    ("token_count", "", "usage: the server counted; events: we counted events with text"),
    ("events", "events", "with text"),
    ("packed", "", "several tokens an event"),
    ("ttft_s", "s", "request fully written until the first event with text"),
    ("decode_tps", "tokens/s", "(tokens - 1) / (last - first)"),
    ("prefill_tps", "tokens/s", "prompt tokens / ttft_s, uncached prompts only"),
    ("memory_bytes", "bytes", "host and accelerator together when the request ended"),
)

TABLES = {"trials": TRIALS, "samples": SAMPLES}


_FORMULA = ("=", "+", "-", "@")


def record_tables(record: Record) -> dict[str, pd.DataFrame]:
    """The tables of a record as `columns.TABLES` describes them, by name."""
    simulated = campaign_facts(record)["simulated"]
    table = schema.exercise
    with record.reading() as connection:
        columns = (table.c.suite, table.c.kind, table.c.language, table.c.difficulty, table.c.topics)
        exercises = pd.read_sql_query(sa.select(table.c.id.label("exercise"), *columns), connection)
    topics = [",".join(json.loads(text)) for text in exercises["topics"]]
    trials = trials_frame(record).merge(exercises.assign(topics=topics), on="exercise", how="left")
    samples = timed_frame(record)
    samples = samples.assign(point=[json.dumps(point, sort_keys=True) for point in samples["point"]])
    found = {"trials": trials.sort_values("id"), "samples": samples}
    return {
        name: frame.assign(simulated=simulated)[[column.name for column in TABLES[name]]]
        for name, frame in found.items()
    }


def write_tables(record: Record, folder: Path, form: Literal["csv", "parquet"]) -> tuple[Path, ...]:
    """Write every table and the data dictionary into a folder; the paths written.

    In CSV a text that a spreadsheet would take for a formula is led by an apostrophe.

    Raises
    ------
    InputError
        Parquet is asked for and its package is not installed.
    """
    written = []
    for name, frame in record_tables(record).items():
        path = folder / f"{name}.{form}"
        if form == "csv":
            frame.map(_as_cell).to_csv(path, index=False, lineterminator="\n")
        else:
            _write_parquet(frame, path)
        written.append(path)
    rows = [
        {"table": name, "column": column.name, "unit": column.unit, "meaning": column.meaning}
        for name, columns in TABLES.items()
        for column in columns
    ]
    path = folder / "data-dictionary.csv"
    pd.DataFrame(rows).to_csv(path, index=False, lineterminator="\n")
    return (*written, path)


def _as_cell(value: object) -> object:
    return f"'{value}" if isinstance(value, str) and value.startswith(_FORMULA) else value


def _write_parquet(frame: pd.DataFrame, path: Path) -> None:
    try:
        frame.convert_dtypes().to_parquet(path, index=False)
    except ImportError as err:
        hint = "Install it: pip install 'kettlefield[parquet]'."
        raise InputError("Parquet needs the package pyarrow", "export --as parquet", hint) from err
