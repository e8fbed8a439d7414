"""Criteria one by one, the verdicts that they lead to, and who signed them."""

from collections.abc import Collection, Sequence
from datetime import UTC, datetime
from typing import Any

from kettlefield.core.acceptance import Status
from kettlefield.core.statistics.estimate import Estimate, in_unit, in_words
from kettlefield.core.units import format_bytes
from kettlefield.decision.measures import MEASURES
from kettlefield.decision.one_criterion import Judgement
from kettlefield.decision.verdict import CandidateVerdict, Decision
from kettlefield.record.entries import SignatureEntry
from kettlefield.record.store import Record
from kettlefield.results.comparison import Figures
from kettlefield.results.rows import not_measured
from kettlefield.views.table import Table, View, Words, estimate_json, line, present, table, words


def verdicts_view(
    record: Record, decision: Decision, verdicts: Sequence[CandidateVerdict], changed: Decision | None = None
) -> View:
    """Criteria and verdicts.

    Parameters
    ----------
    record : Record
        An open record.
    decision : Decision
        What its results say.
    verdicts : sequence of CandidateVerdict
        Those of it that are shown.
    changed : Decision, optional
        What the criteria of a plan say that was changed since; they decide nothing.
    """
    shown = {verdict.candidate for verdict in verdicts}
    baselines = [row.candidate for row in decision.table.rows if row.baseline]
    none = "The plan sets no criteria, so nothing can be approved: add [[criterion]] to a new plan."
    return View(
        title=decision.title,
        simulated=decision.simulated,
        parts=present(
            *criteria_tables(verdicts),
            Words(text=none, tone="warning") if any(not one.judgements for one in verdicts) else None,
            *(Words(text=f"{kind}: {_names(verdicts, kind)}") for kind in ("approved", "rejected", "undecided")),
            *recommended_words(decision, shown),
            Words(text=f"a baseline, not up for approval: {', '.join(baselines)}") if baselines else None,
            *(Words(text=text, tone="warning") for text in not_measured(record)),
            *(_changed(decision, changed, verdicts) if changed is not None else ()),
        ),
        document={
            "simulated": decision.simulated,
            "verdicts": [_document(one, decision.conditions[one.candidate]) for one in verdicts],
            "recommended": decision.recommended,
            "why_recommended": decision.why_recommended,
            "not_measured": not_measured(record),
            "changed_criteria": None
            if changed is None
            else [
                _document(one, changed.conditions[one.candidate]) for one in changed.verdicts if one.candidate in shown
            ],
        },
    )


def recommended_words(decision: Decision, shown: Collection[str] | None = None) -> tuple[Words, ...]:
    """The recommended level of each model with the reason, and the conditions that the approval holds under."""
    return tuple(
        Words(
            text=f"recommended of {model}: {choice}: {decision.why_recommended[model]}",
            items=tuple(f"condition: {condition}" for condition in decision.conditions[choice]),
        )
        for model, choice in decision.recommended.items()
        if shown is None or choice in shown
    )


def criteria_tables(verdicts: Sequence[CandidateVerdict], *, lead: str = "") -> tuple[Table, ...]:
    """One table a candidate: every criterion, what was found, and why it is undecided."""
    return present(
        *(
            table(
                f"{lead}{verdict.candidate}: {verdict.verdict.value}",
                [words("measure"), line("wanted"), line("found (one-sided bounds)"), line("status"), words("reason")],
                [
                    (
                        judgement.criterion.label,
                        judgement.criterion.wanted,
                        in_words(judgement.found, MEASURES[judgement.criterion.measure].unit),
                        judgement.status.value,
                        judgement.reason,
                    )
                    for judgement in verdict.judgements
                ],
            )
            for verdict in verdicts
        )
    )


def deciding_words(verdict: CandidateVerdict, row: Figures) -> str:
    """A verdict in a line, with the criterion that it hangs on."""
    for status in (Status.NOT_MET, Status.UNDECIDED):
        judged = next((one for one in verdict.judgements if one.status is status), None)
        if judged is not None:
            return f"{verdict.verdict.value}: {_judged_words(judged)}"
    peak = f": peak {format_bytes(row.peak_bytes)}" if row.peak_bytes is not None else ""
    return f"{verdict.verdict.value}{peak}"


def _judged_words(judged: Judgement) -> str:
    criterion = judged.criterion
    found = judged.found.value if isinstance(judged.found, Estimate) else judged.found
    shown = found if isinstance(found, str) else in_unit(found, MEASURES[criterion.measure].unit)
    return f"{criterion.label} {shown}, wanted {criterion.wanted}"


def verdicts_table(decision: Decision) -> Table | None:
    """Every verdict in a line, with what decided it."""
    figures, chosen = {row.candidate: row for row in decision.table.rows}, set(decision.recommended.values())
    return table(
        "Verdicts",
        [words("candidate"), words("verdict, and what decided it")],
        [
            (
                one.candidate,
                deciding_words(one, figures[one.candidate]) + (" (recommended)" if one.candidate in chosen else ""),
            )
            for one in decision.verdicts
        ],
    )


def glance_table(decision: Decision) -> Table | None:
    """Every candidate in a row, every criterion in a column."""
    return table(
        "All criteria at a glance",
        [words("candidate"), *(words(f"{one.label} {one.wanted}") for one in decision.criteria)],
        [(one.candidate, *(judged.status.value for judged in one.judgements)) for one in decision.verdicts],
    )


def signatures_table(signatures: Sequence[SignatureEntry]) -> Table | None:
    """Who signed what."""
    return table(
        "Signed",
        [words("when"), words("by"), words("approved"), words("note"), words("digest")],
        [
            (
                datetime.fromtimestamp(one.at, UTC).strftime("%Y-%m-%d %H:%M UTC"),
                one.signed_by,
                ", ".join(name for name, verdict in one.verdicts.items() if verdict == "approved") or "none",
                one.note,
                one.digest[:19],
            )
            for one in signatures
        ],
    )


def _names(verdicts: Sequence[CandidateVerdict], kind: str) -> str:
    return ", ".join(one.candidate for one in verdicts if one.verdict.value == kind) or "none"


def _changed(decision: Decision, changed: Decision, verdicts: Sequence[CandidateVerdict]) -> tuple[Table | Words, ...]:
    """The criteria of a plan that was changed after the campaign began: shown, never decided by."""
    if changed.criteria == decision.criteria:
        return (Words(text="The criteria of that plan are those that the campaign began with."),)
    pairs = [(one, change) for one in verdicts if (change := changed.of(one.candidate)) is not None]
    return present(
        Words(
            text="CRITERIA CHANGED after the campaign began, when results could be seen. What they say now decides "
            "nothing:",
            tone="warning",
        ),
        *criteria_tables([change for _, change in pairs], lead="as changed: "),
        table(
            "Verdicts under the changed criteria",
            [words("candidate"), words("as it began"), words("as changed")],
            [(one.candidate, one.verdict.value, change.verdict.value) for one, change in pairs],
        ),
    )


def _document(verdict: CandidateVerdict, conditions: tuple[str, ...]) -> dict[str, Any]:
    return {
        "candidate": verdict.candidate,
        "verdict": verdict.verdict.value,
        "conditions": conditions,
        "criteria": [
            {
                "measure": judgement.criterion.measure,
                "among": dict(judgement.criterion.among),
                "at_depth_tokens": judgement.criterion.at_depth_tokens,
                "at_fill": judgement.criterion.at_fill,
                "outcomes": judgement.criterion.outcomes,
                "wanted": judgement.criterion.wanted,
                "found": estimate_json(judgement.found),
                "status": judgement.status.value,
                "reason": judgement.reason,
            }
            for judgement in verdict.judgements
        ],
    }
