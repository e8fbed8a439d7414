"""All that a report is written from, read from the record once."""

from typing import Any

import msgspec
import pandas as pd

from kettlefield.decision.ledger import Audit, audit
from kettlefield.decision.provenance import Standing, standings
from kettlefield.decision.verdict import Decision
from kettlefield.marking.scores import Marking, read_marking
from kettlefield.record.store import Record
from kettlefield.results.breakdown import Group, pass_rates_by
from kettlefield.results.comparison import on_frontier
from kettlefield.results.context_fill import FillFigures, context_fills
from kettlefield.results.frames import campaign_facts, notes
from kettlefield.results.memory_use import Memory, memories
from kettlefield.results.needed_parts import Asked, asked_about_texts
from kettlefield.results.paired_comparison import mixed_settings
from kettlefield.results.reply_similarity import ReplyAgreement, reply_agreements
from kettlefield.results.server_words import ServerWords, server_words
from kettlefield.results.speed import Timing, timed_frame, timings
from kettlefield.results.text_fidelity import Fidelity, fidelities
from kettlefield.results.workspace_runs import DepthFigures, WorkFigures, by_depth, work_figures

GROUPINGS = ("kind", "language", "difficulty")


class Material(msgspec.Struct, frozen=True, kw_only=True):
    """One campaign, analysed."""

    record: Record
    decision: Decision
    campaign: dict[str, Any]
    audit: Audit
    standings: dict[str, Standing]
    timings: tuple[Timing, ...]
    memories: tuple[Memory, ...]
    timed: pd.DataFrame
    replies: tuple[ReplyAgreement, ...]
    fidelities: tuple[Fidelity, ...]
    fills: tuple[FillFigures, ...]
    about_texts: tuple[Asked, ...]
    work: tuple[WorkFigures, ...]
    work_depths: tuple[DepthFigures, ...]
    server_words: ServerWords
    groups: dict[str, tuple[Group, ...]]
    mixed: dict[str, str]
    notes: tuple[str, ...]
    marking: Marking


def solved_frame(material: Material) -> pd.DataFrame:
    """Each candidate's pass rate and peak memory, and whether it is Pareto-optimal."""
    rows = material.decision.table.rows
    best = set(on_frontier(rows))
    return pd.DataFrame(
        {
            "candidate": row.candidate,
            "model": row.model,
            "level": row.level,
            "pass_rate": row.pass_rate.value if row.pass_rate else None,
            "low": row.pass_rate.low if row.pass_rate else None,
            "high": row.pass_rate.high if row.pass_rate else None,
            "peak_bytes": row.peak_bytes,
            "frontier": row.candidate in best,
        }
        for row in rows
    )


def read_material(record: Record, decision: Decision) -> Material:
    """Read everything.

    Raises
    ------
    InputError
        No campaign was begun in the record.
    """
    return Material(
        record=record,
        decision=decision,
        campaign=campaign_facts(record),
        audit=audit(record),
        standings=standings(record),
        timings=timings(record),
        memories=memories(record),
        timed=timed_frame(record),
        replies=reply_agreements(record),
        fidelities=fidelities(record),
        fills=context_fills(record),
        about_texts=asked_about_texts(record),
        work=work_figures(record),
        work_depths=by_depth(record),
        server_words=server_words(record),
        groups={grouping: pass_rates_by(record, grouping) for grouping in GROUPINGS},
        mixed=mixed_settings(record),
        notes=tuple(notes(record)),
        marking=read_marking(record, decision.weights),
    )
