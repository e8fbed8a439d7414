"""The campaigns of a database, or the one of a file: a row each."""

import time
from collections.abc import Mapping
from typing import Any

from kettlefield.core.errors import InputError
from kettlefield.decision.ledger import audit
from kettlefield.plan.criteria import decide
from kettlefield.record.place import DatabasePlace, Place
from kettlefield.record.storage import campaigns_in
from kettlefield.record.store import Record
from kettlefield.results.frames import campaign_facts
from kettlefield.results.rig_rows import rig_names
from kettlefield.results.rows import candidate_rows
from kettlefield.views.table import View, Words, count, present, table, words

_WHEN = "%Y-%m-%d %H:%M"


def campaigns_view(place: Place) -> View:
    """Every campaign at a place: title, begun, rigs, candidates, verdicts, who signed.

    Raises
    ------
    KettlefieldError
        The database refuses or does not answer; a file is not a record.
    """
    if not isinstance(place, DatabasePlace) or place.campaign is not None:
        rows = [_facts(place)]
    else:
        rows = [_facts_or_fault(place.named(name)) for name in campaigns_in(place)]
    columns = (
        words("campaign"),
        words("title"),
        words("begun"),
        words("rigs"),
        count("candidates"),
        words("verdicts"),
        words("signed by"),
    )
    shown = [
        (
            row["name"],
            row["title"] or "-",
            time.strftime(_WHEN, time.localtime(row["begun"])) if row["begun"] is not None else "-",
            ", ".join(row["rigs"]) or "-",
            len(row["candidates"]),
            row["fault"] or _verdict_words(row["verdicts"]),
            ", ".join(row["signed_by"]) or "nobody",
        )
        for row in rows
    ]
    return View(
        title=f"{place}",
        simulated=any(row["simulated"] for row in rows),
        parts=present(
            table(
                "Campaigns", columns, shown, note="Verdicts are those of the criteria on the results as they are now."
            ),
            None if rows else Words(text="No campaign yet: `kettlefield qualify` begins one."),
        ),
        document={"place": str(place), "campaigns": rows},
    )


def _facts_or_fault(place: DatabasePlace) -> dict[str, Any]:
    """One that cannot be read does not keep the others from being listed."""
    try:
        return _facts(place)
    except InputError as err:
        nothing: dict[str, Any] = dict.fromkeys(("title", "begun"))
        return {
            "name": place.campaign,
            **nothing,
            "rigs": [],
            "candidates": [],
            "verdicts": {},
            "signed_by": [],
            "simulated": False,
            "fault": f"{err.what}",
        }


def _facts(place: Place) -> dict[str, Any]:
    record = Record.open(place)
    try:
        facts = campaign_facts(record)
        signed = audit(record)
        verdicts = {one.candidate: one.verdict.value for one in decide(record).verdicts}
        return {
            "name": place.campaign if isinstance(place, DatabasePlace) else str(place),
            "title": facts["title"],
            "begun": facts["started_at"],
            "rigs": list(rig_names(record)),
            "candidates": [one.name for one in candidate_rows(record)],
            "verdicts": verdicts,
            "signed_by": [one.signed_by for one in signed.signatures],
            "simulated": bool(facts["simulated"]),
            "fault": "; ".join(signed.faults) or None,
        }
    finally:
        record.close()


def _verdict_words(verdicts: Mapping[str, str]) -> str:
    counts = {name: list(verdicts.values()).count(name) for name in ("approved", "rejected", "undecided")}
    return ", ".join(f"{number} {name}" for name, number in counts.items() if number) or "-"
