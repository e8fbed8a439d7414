"""First question: may we host it, under which conditions, and who says so?"""

from datetime import UTC, datetime

from kettlefield.core.acceptance import Verdict
from kettlefield.core.units import format_bytes
from kettlefield.results.frames import not_measured
from kettlefield.server.loaded import named
from kettlefield.views.criteria_view import signatures_table
from kettlefield.views.material import Material
from kettlefield.views.parts import Section
from kettlefield.views.table import Table, Words, present, table, words


def headline(material: Material) -> str:
    """Verdict and recommendation in one sentence."""
    decision = material.decision
    if decision.recommended:
        choices = " and ".join(decision.recommended.values())
        others = sum(one.verdict is Verdict.APPROVED for one in decision.verdicts) - len(decision.recommended)
        also = f"; {others} more {'is' if others == 1 else 'are'} approved" if others else ""
        return f"Approved for self-hosting on this machine: {choices}{also}."
    open_ones = [one.candidate for one in decision.verdicts if one.verdict is Verdict.UNDECIDED]
    if open_ones:
        return f"Nothing is approved yet: the evidence leaves {', '.join(open_ones)} undecided."
    return (
        "Nothing is approved: every candidate fails a criterion." if decision.verdicts else "Nothing was measured yet."
    )


def verdict_section(material: Material) -> Section:
    """The section."""
    decision, campaign = material.decision, material.campaign
    conditions = tuple(
        f"{candidate}: {'; '.join(decision.conditions[candidate])}" for candidate in decision.recommended.values()
    )
    simulated = "SIMULATED: these are made-up models on a made-up accelerator; only the grading is real."
    baselines = [row.candidate for row in decision.table.rows if row.baseline]
    return Section(
        anchor="verdict",
        title="Verdict",
        parts=present(
            Words(text=simulated, tone="warning") if campaign["simulated"] else None,
            Words(
                text="Left out, because this rig could not ask it:",
                items=tuple(not_measured(material.record)),
                tone="warning",
            )
            if not_measured(material.record)
            else None,
            Words(text="Conditions:", items=conditions) if conditions else None,
            table(
                "Every candidate",
                [words("candidate"), words("verdict"), words("because")],
                [(one.candidate, one.verdict.value, _because(material, one.candidate)) for one in decision.verdicts],
                note=f"Baselines are not up for approval: {', '.join(baselines)}." if baselines else "",
            ),
            *_signed(material),
            table("What it holds for", [words(""), words("")], _holds_for(material)),
        ),
    )


def _because(material: Material, candidate: str) -> str:
    verdict = material.decision.of(candidate)
    if verdict is None or not verdict.judgements:
        return "the plan sets no criteria"
    if verdict.verdict is Verdict.APPROVED:
        best = candidate in material.decision.recommended.values()
        return "all criteria are met" + (", with the least memory of its model" if best else "")
    wanted = "not met" if verdict.verdict is Verdict.REJECTED else "undecided"
    found = [one for one in verdict.judgements if one.status.value == wanted]
    return f"{wanted}: " + "; ".join(f"{one.criterion.label} {one.criterion.wanted}" for one in found)


def _signed(material: Material) -> tuple[Words | Table, ...]:
    audit = material.audit
    if not audit.signatures:
        return (Words(text="Nobody has signed this decision yet.", tone="warning"),)
    signed = present(signatures_table(audit.signatures))
    if audit.faults:
        return *signed, Words(text="This record is not as it was signed:", items=audit.faults, tone="warning")
    return *signed, Words(text="Nothing in the record was changed since the last signature.")


def _holds_for(material: Material) -> list[tuple[str, str]]:
    campaign = material.campaign
    host = campaign["rig"].get("host", {})
    card = campaign["rig"].get("accelerator")
    machine = f"{host.get('cpu', 'unknown processor')}, {host.get('cores', '?')} cores"
    if host.get("memory_bytes"):
        machine += f", {format_bytes(host['memory_bytes'])} memory"
    if card:
        machine += f"; {card['name']}, {format_bytes(card['memory_bytes'])}"
    servers = dict.fromkeys(
        named(one.server.get("loaded")) or str(one.server.get("says", "")).partition(";")[0]
        for one in material.standings.values()
    )
    return [
        ("machine", machine),
        ("server", ", ".join(name for name in servers if name) or "says nothing of itself"),
        ("suite", f"{campaign['suite_name']} ({campaign['suite_digest'][:19]})"),
        ("campaign begun", datetime.fromtimestamp(campaign["started_at"], UTC).strftime("%Y-%m-%d %H:%M UTC")),
        ("measured by", f"kettlefield {campaign['tool_version']}"),
    ]
