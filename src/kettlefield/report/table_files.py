"""Trials and timed samples as CSV or Parquet, with their data dictionary beside them."""

import json
from pathlib import Path
from typing import Literal

import pandas as pd
import sqlalchemy as sa

from kettlefield.analysis.frames import campaign_facts, trials_frame
from kettlefield.analysis.timing import timed_frame
from kettlefield.core.errors import InputError
from kettlefield.record import schema
from kettlefield.record.store import Record
from kettlefield.report.columns import TABLES

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
