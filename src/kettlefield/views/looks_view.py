"""Looks: how each candidate's criteria stood after every block, where a campaign stops when it is decided."""

from collections.abc import Sequence
from datetime import UTC, datetime
from typing import Any

from kettlefield.core.acceptance import Criterion
from kettlefield.decision.looks import DECIDED
from kettlefield.plan.criteria import terms_of_text
from kettlefield.record.store import Record
from kettlefield.results.comparison import compare
from kettlefield.results.frames import campaign_facts
from kettlefield.results.look_rows import Look, blocks_asked, blocks_of, looks_of
from kettlefield.views.table import (
    Align,
    Column,
    Table,
    View,
    Words,
    chosen,
    estimate_json,
    line,
    present,
    share,
    table,
    words,
)

NOTE = (
    "Each look has an interval of its own confidence, so wide that all looks together hold at the criterion's. What a "
    "look decided stays decided. A figure at which one stopped is a little too far from the threshold, in the mean by "
    "up to two points (docs/method.md)."
)


def looks_view(record: Record, only: str | None = None) -> View:
    """All of a record's candidates.

    Raises
    ------
    InputError
        No campaign was begun, or the pattern matches nothing.
    """
    facts = campaign_facts(record)
    criteria = terms_of_text(facts["plan_text"], str(record.place)).criteria
    blocks = blocks_of(record)
    names = [row.candidate for row in chosen(compare(record).rows, only)]
    looks = [look for look in looks_of(record) if look.candidate in names]
    nothing = 'this campaign asks everything and looks once: [campaign] until = "decided" stops when it is decided'
    return View(
        title=facts["title"],
        simulated=facts["simulated"],
        parts=present(
            Words(text=nothing) if blocks is None else None,
            stops_table(record, names, looks, criteria),
            looks_table(looks, criteria),
        ),
        document={
            "simulated": facts["simulated"],
            "blocks": blocks.count if blocks is not None else None,
            "exercises": len(blocks.of) if blocks is not None else None,
            "candidates": _stops(record, names, looks),
            "looks": [_json(look, criteria) for look in looks],
        },
    )


def stops_table(
    record: Record, names: Sequence[str], looks: Sequence[Look], criteria: Sequence[Criterion]
) -> Table | None:
    """How far each candidate was asked, and what was decided when."""
    blocks = blocks_of(record)
    if blocks is None:
        return None
    rows = []
    for stop in _stops(record, names, looks):
        decided = [
            f"{criteria[number - 1].label} {criteria[number - 1].wanted}: {status} after {after}"
            for number, status, after in stop["decided"]
        ]
        rows.append(
            (stop["candidate"], f"{stop['exercises_asked']} of {len(blocks.of)}", "; ".join(decided) or "nothing")
        )
    return table(
        "How far each was asked",
        [words("candidate"), Column(name="exercises asked", align=Align.RIGHT), words("decided by looks")],
        rows,
    )


def _stops(record: Record, names: Sequence[str], looks: Sequence[Look]) -> list[dict[str, Any]]:
    blocks, asked = blocks_of(record), blocks_asked(record)
    if blocks is None:
        return []
    stops = []
    for name in names:
        first: dict[int, Look] = {}
        for look in looks:
            if look.candidate == name and look.status in DECIDED:
                first.setdefault(look.criterion, look)
        stops.append(
            {
                "candidate": name,
                "exercises_asked": len(blocks.upto(asked[name])),
                "decided": [(number, look.status.value, look.exercises) for number, look in sorted(first.items())],
            }
        )
    return stops


def looks_table(looks: Sequence[Look], criteria: Sequence[Criterion]) -> Table | None:
    """One row a candidate, criterion and look."""
    return table(
        "Looks",
        [
            words("candidate", once=True),
            words("criterion"),
            Column(name="exercises", align=Align.RIGHT),
            Column(name="confidence of the bounds", align=Align.RIGHT, show="{:.2%}".format),
            share("found (one-sided bounds)"),
            line("status"),
        ],
        [
            (
                look.candidate,
                f"{criteria[look.criterion - 1].label} {criteria[look.criterion - 1].wanted}",
                f"{look.exercises} of {look.planned}",
                look.confidence,
                look.figure,
                look.status.value,
            )
            for look in sorted(looks, key=lambda look: (names_first(looks, look), look.criterion, look.block))
        ],
        note=NOTE,
    )


def names_first(looks: Sequence[Look], look: Look) -> int:
    """The place of a look's candidate among those that were looked at."""
    return list(dict.fromkeys(one.candidate for one in looks)).index(look.candidate)


def _json(look: Look, criteria: Sequence[Criterion]) -> dict[str, Any]:
    criterion = criteria[look.criterion - 1]
    return {
        "candidate": look.candidate,
        "at": datetime.fromtimestamp(look.at, UTC).isoformat(timespec="seconds"),
        "block": look.block,
        "criterion": look.criterion,
        "measure": criterion.measure,
        "wanted": criterion.wanted,
        "exercises": look.exercises,
        "exercises_planned": look.planned,
        "confidence": look.confidence,
        "found": estimate_json(look.figure),
        "status": look.status.value,
        "reason": look.reason,
    }
