"""The rigs of a campaign: which there were, what each is, and which candidate ran on which."""

import json
from collections.abc import Mapping
from typing import Any

import msgspec
import sqlalchemy as sa
import tomli

from kettlefield.record import schema
from kettlefield.record.store import Record
from kettlefield.results.frames import campaign_facts


class RigRow(msgspec.Struct, frozen=True, kw_only=True):
    """One rig of a campaign on several."""

    name: str
    facts: Mapping[str, Any]  # host, hostname, fingerprint, accelerator, toolchains, packages, isolation, calibration
    memory_budget_bytes: int | None
    cost_per_hour: float | None  # in the plan's currency
    candidates: tuple[str, ...]  # that ran on it, by name

    def plain(self, candidate: str) -> str:
        """A candidate's name without the rig's."""
        return candidate.removesuffix(f" on {self.name}")


def rig_rows(record: Record) -> tuple[RigRow, ...]:
    """The rigs of a campaign on several that took part, in the plan's order; empty where it has one."""
    return record.once("rig_rows", lambda: _read_rigs(record))


def _read_rigs(record: Record) -> tuple[RigRow, ...]:
    rig, candidate = schema.rig, schema.candidate
    with record.reading() as connection:
        rows = connection.execute(sa.select(rig).order_by(rig.c.id)).all()
        runs = connection.execute(sa.select(candidate.c.name, candidate.c.rig_id).order_by(candidate.c.id)).all()
    if not rows:
        return ()
    planned = [rig["name"] for rig in tomli.loads(campaign_facts(record)["plan_text"]).get("rig", ())]
    rows = sorted(rows, key=lambda row: planned.index(row.name) if row.name in planned else len(planned))
    return tuple(
        RigRow(
            name=row.name,
            facts=json.loads(row.facts),
            memory_budget_bytes=row.memory_budget_bytes,
            cost_per_hour=row.cost_per_hour,
            candidates=tuple(run.name for run in runs if run.rig_id == row.id),
        )
        for row in rows
    )


def rig_names(record: Record) -> tuple[str, ...]:
    """The names of a campaign's rigs; of a campaign on one rig, its fingerprint."""
    names = tuple(one.name for one in rig_rows(record))
    facts = campaign_facts(record)["rig"]
    return names or ((str(facts["fingerprint"]),) if "fingerprint" in facts else ())


def rig_of(record: Record, candidate: str) -> Mapping[str, Any]:
    """What the rig is that a candidate ran on."""
    own = next((one.facts for one in rig_rows(record) if candidate in one.candidates), None)
    facts: Mapping[str, Any] = campaign_facts(record)["rig"]
    return facts if own is None else own


def toolchains_that_differ(record: Record) -> dict[str, dict[str, str]]:
    """Languages whose toolchain is not the same on all rigs: language -> rig -> version."""
    rigs = rig_rows(record)
    languages = sorted({name for rig in rigs for name in rig.facts.get("toolchains", {})})
    versions = {
        name: {rig.name: str(rig.facts.get("toolchains", {}).get(name, "missing")) for rig in rigs}
        for name in languages
    }
    return {name: by_rig for name, by_rig in versions.items() if len(set(by_rig.values())) > 1}
