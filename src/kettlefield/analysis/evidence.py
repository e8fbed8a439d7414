"""What makes figures of a record not alike: candidates that were asked under other settings than their reference."""

import json
from typing import Any

import sqlalchemy as sa

from kettlefield.core.changes import changes_between
from kettlefield.record import schema
from kettlefield.record.store import Record

_PARTS = ("sampling", "prompting", "grading")  # what changes replies or outcomes


def mixed_settings(record: Record) -> dict[str, str]:
    """For each candidate that was asked under other settings than its reference level, which, in words."""
    table = schema.candidate
    with record.reading() as connection:
        rows = list(connection.execute(sa.select(table).order_by(table.c.id)).mappings())
    settings = {row["name"]: json.loads(row["settings"]) for row in rows}
    references = {row["model"]: row["name"] for row in rows if row["reference"]}
    found = {}
    for row in rows:
        reference = references.get(row["model"])
        if reference is None or reference == row["name"]:
            continue
        changes = changes_between(_answering(settings[reference]), _answering(settings[row["name"]]))
        if changes:
            words = "; ".join(f"{change.what} {change.now} instead of {change.then}" for change in changes)
            found[row["name"]] = f"asked under other settings than {reference}: {words}"
    return found


def _answering(settings: dict[str, Any]) -> dict[str, Any]:
    context = {"context": settings.get("server", {}).get("context")}
    return {**{part: settings.get(part, {}) for part in _PARTS}, "server": context}
