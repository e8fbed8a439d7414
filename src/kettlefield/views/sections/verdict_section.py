"""The first screen: the decision in a sentence a model, what carries it, what it does not cover, who signed."""

from collections.abc import Mapping
from datetime import UTC, datetime
from typing import Any

from kettlefield.core.acceptance import Status, Threshold, Verdict
from kettlefield.core.plaintext import as_sentence, listed
from kettlefield.core.statistics.estimate import in_words
from kettlefield.core.units import format_bytes
from kettlefield.decision.measures import MEASURES
from kettlefield.decision.verdict import CandidateVerdict, Decision
from kettlefield.results.comparison import ends_of_scale
from kettlefield.results.rig_rows import rig_rows
from kettlefield.results.rows import not_measured
from kettlefield.server.loaded import named
from kettlefield.views.criteria_view import signatures_table
from kettlefield.views.figures.level_charts import candidates_at_a_glance
from kettlefield.views.material import Material, solved_frame
from kettlefield.views.parts import Beside, Drawn, Section, drawn
from kettlefield.views.rigs_view import rig_parts, verdict_matrix
from kettlefield.views.table import Table, Words, present, table, words


def headline(material: Material) -> str:
    """Verdict and recommendation in one sentence."""
    decision = material.decision
    if decision.recommended:
        choices = listed(decision.recommended.values())
        others = sum(one.verdict is Verdict.APPROVED for one in decision.verdicts) - len(decision.recommended)
        also = f"; {others} more {'is' if others == 1 else 'are'} approved" if others else ""
        where = "on their rigs" if rig_rows(material.record) else "on this machine"
        return f"Approved for self-hosting {where}: {choices}{also}."
    open_ones = [one.candidate for one in decision.verdicts if one.verdict is Verdict.UNDECIDED]
    if open_ones:
        return f"Nothing is approved yet: the evidence leaves {listed(open_ones)} undecided."
    return (
        "Nothing is approved: every candidate fails a criterion." if decision.verdicts else "Nothing was measured yet."
    )


MOST_ABREAST = 3  # candidates whose figures stand in one table


def verdict_section(material: Material) -> Section:
    """The decision on one screen: a sentence a model, the figures that carry it, what it does not cover, who signed."""
    decision = material.decision
    baselines = [row.candidate for row in decision.table.rows if row.baseline]
    return Section(
        anchor="verdict",
        title="Verdict",
        parts=present(
            Words(text="", items=tuple(_of_model(material, model) for model in _models(material))),
            # of several rigs the first question is which level on which
            verdict_matrix(decision, rig_rows(material.record)),
            *_carried_by(material),
            Beside(
                left=present(_glance(material)),
                right=present(
                    _not_covered(material),
                    _who_signed(material),
                    _conditions(decision),
                ),
            ),
            signatures_table(material.audit.signatures),
            *rig_parts(material.record, decision)[1:],
            table(
                "Every candidate",
                [words("candidate"), words("verdict"), words("because")],
                [(one.candidate, one.verdict.value, _because(material, one.candidate)) for one in decision.verdicts],
                note=f"Baselines are not up for approval: {', '.join(baselines)}." if baselines else "",
            ),
            table("What it holds for", [words(""), words("")], _holds_for(material)),
        ),
    )


def _models(material: Material) -> list[str]:
    """The models that are up for approval, in the record's order."""
    return list(dict.fromkeys(row.model for row in material.decision.table.rows if not row.baseline))


def _of(material: Material, model: str) -> list[CandidateVerdict]:
    mine = {row.candidate for row in material.decision.table.rows if row.model == model}
    return [one for one in material.decision.verdicts if one.candidate in mine]


def _deciding(material: Material, model: str) -> CandidateVerdict | None:
    """The candidate that the decision on a model is about: the recommended one, else the nearest to approval."""
    verdicts = _of(material, model)
    chosen = material.decision.recommended.get(model)
    if chosen is not None:
        return next(one for one in verdicts if one.candidate == chosen)
    open_ones = [one for one in verdicts if one.verdict is Verdict.UNDECIDED]
    return min(open_ones or verdicts, key=lambda one: sum(each.status is not Status.MET for each in one.judgements),
               default=None)  # fmt: skip


def _of_model(material: Material, model: str) -> str:
    """The decision on a model in a sentence, with its reason."""
    decision, deciding = material.decision, _deciding(material, model)
    if deciding is None:
        return f"{model}: nothing was measured."
    if not decision.criteria:
        return f"{model}: nothing can be approved, since the plan sets no criteria."
    name = deciding.candidate
    if model in decision.recommended:
        count = len(decision.criteria)
        met = "its criterion is met" if count == 1 else f"all {count} criteria are met"
        several = sum(one.verdict is Verdict.APPROVED for one in _of(material, model)) > 1
        why = decision.why_recommended[model] if several else "the only one of its levels that is approved"
        return f"{model}: approve {name}, {why}. {as_sentence(met)}"
    if deciding.verdict is Verdict.UNDECIDED:
        reasons = [one.reason for one in deciding.judgements if one.status is Status.UNDECIDED and one.reason]
        return f"{model}: not decided. {name} is undecided{f': {reasons[0]}' if reasons else ''}."
    failed = [one.criterion for one in deciding.judgements if one.status is Status.NOT_MET]
    wanted = "; ".join(f"{one.label} {one.wanted}" for one in failed)
    return f"{model}: do not approve. The nearest, {name}, does not meet: {wanted}."


def _carried_by(material: Material) -> list[Table | None]:
    """The criteria with what was found of the candidates that the decision is about, a few to a table."""
    decision = material.decision
    deciding = [_deciding(material, model) for model in _models(material)]
    carried = [one for one in deciding if one is not None and one.judgements]
    return [
        table(
            "The figures that carry it",
            [words("criterion"), *(column for one in some for column in (words(one.candidate), words("")))],
            [
                (
                    f"{criterion.label} {criterion.wanted}",
                    *(
                        cell
                        for judged in (one.judgements[number] for one in some)
                        for cell in (in_words(judged.found, MEASURES[criterion.measure].unit), judged.status.value)
                    ),
                )
                for number, criterion in enumerate(decision.criteria)
            ],
        )
        for some in (carried[at : at + MOST_ABREAST] for at in range(0, len(carried), MOST_ABREAST))
    ]


def _glance(material: Material) -> Drawn | None:
    """All candidates in a figure, with the thresholds."""
    decision = material.decision
    frame = solved_frame(material)
    if not len(frame):
        return None
    plain = [(one, one.threshold) for one in decision.criteria if isinstance(one.threshold, Threshold)]
    least = next((bound.at_least for one, bound in plain if one.measure == "pass_rate" and not one.among), None)
    peaks = [bound.at_most for one, bound in plain if one.measure == "peak_bytes" and bound.at_most is not None]
    most = min([*peaks, *([decision.budget_bytes] if decision.budget_bytes is not None else [])], default=None)
    chosen = set(decision.recommended.values())
    return drawn(candidates_at_a_glance(frame, chosen=chosen, most_bytes=most, least_rate=least))


SIMULATED = "SIMULATED: these are made-up models on a made-up accelerator; only the grading is real."


def _not_covered(material: Material) -> Words | None:
    """What a reader must not take from the decision, each in a line."""
    decision = material.decision
    lines = [SIMULATED] if material.campaign["simulated"] else []
    lines += not_measured(material.record)
    open_ones = [one.candidate for one in decision.verdicts if one.verdict is Verdict.UNDECIDED]
    if open_ones and decision.criteria:
        lines.append(f"undecided, the evidence is not enough: {', '.join(open_ones)}")
    disturbed = int(material.timed["disturbed"].notna().sum())
    if disturbed:
        lines.append(f"{disturbed} of {len(material.timed)} timed requests were disturbed and are left out")
    lines += ends_of_scale(decision.table.rows)
    judged = (one for verdict in decision.verdicts for one in verdict.judgements)
    weak = (f"{one.criterion.label} {one.criterion.wanted}: {one.reason}" for one in judged if one.reference_is_weak)
    lines += dict.fromkeys(weak)  # once for all levels of a model
    few = [row.candidate for row in decision.table.rows if row.trials < row.planned]
    if few:
        stopped = material.campaign["until"] is not None
        said = "stopped when decided, so not everything was asked" if stopped else "not all trials were run"
        lines.append(f"{said}: {', '.join(few)}")
    return Words(text="What it does not cover:", items=tuple(lines), tone="warning") if lines else None


def _conditions(decision: Decision) -> Words | None:
    """What the recommendations hold for; what is the same for all of them is said once."""
    each = {name: decision.conditions[name] for name in decision.recommended.values()}
    same = [one for one in next(iter(each.values()), ()) if all(one in others for others in each.values())]
    own = {name: [one for one in found if one not in same] for name, found in each.items()}
    lines = ["; ".join(same)] if same else []
    lines += [f"{name}: {'; '.join(some)}" for name, some in own.items() if some]
    return Words(text="Conditions:", items=tuple(lines), tone="small") if lines else None


def _because(material: Material, candidate: str) -> str:
    verdict = material.decision.of(candidate)
    if verdict is None or not verdict.judgements:
        return "the plan sets no criteria"
    if verdict.verdict is Verdict.APPROVED:
        best = candidate in material.decision.recommended.values()
        return "all criteria are met" + (", with the least memory of its model" if best else "")
    wanted = "not met" if verdict.verdict is Verdict.REJECTED else "undecided"
    judgements = [one for one in verdict.judgements if one.status.value == wanted]
    return f"{wanted}: " + "; ".join(f"{one.criterion.label} {one.criterion.wanted}" for one in judgements)


def _who_signed(material: Material) -> Words:
    """Who signed last and whether that still holds, or the command that signs."""
    audit = material.audit
    if not audit.signatures:
        command = f'kettlefield decide {material.record.place.short} --by "NAME"'
        return Words(text=f"Nobody has signed this decision yet. {command} signs it.", tone="warning")
    last = audit.signatures[-1]
    said = f"Signed by {last.signed_by} on {datetime.fromtimestamp(last.at, UTC):%Y-%m-%d}"
    if audit.faults:
        return Words(text=f"{said}. This record is not as it was signed:", items=audit.faults, tone="warning")
    return Words(text=f"{said}; nothing in the record was changed since.")


def _machine(facts: Mapping[str, Any]) -> str:
    """A rig in words."""
    host, card = facts.get("host", {}), facts.get("accelerator")
    machine = f"{host.get('cpu', 'unknown processor')}, {host.get('cores', '?')} cores"
    if host.get("memory_bytes"):
        machine += f", {format_bytes(host['memory_bytes'])} memory"
    if card:
        machine += f"; {card['name']}, {format_bytes(card['memory_bytes'])}"
    return machine


def _holds_for(material: Material) -> list[tuple[str, str]]:
    campaign, rigs = material.campaign, rig_rows(material.record)
    machines = [(f"rig {one.name}", _machine(one.facts)) for one in rigs]
    servers = dict.fromkeys(
        named(one.server.get("loaded")) or str(one.server.get("says", "")).partition(";")[0]
        for one in material.standings.values()
    )
    return [
        *(machines or [("machine", _machine(campaign["rig"]))]),
        ("server", ", ".join(name for name in servers if name) or "says nothing of itself"),
        ("suite", f"{campaign['suite_name']} ({campaign['suite_digest'][:19]})"),
        ("campaign begun", datetime.fromtimestamp(campaign["started_at"], UTC).strftime("%Y-%m-%d %H:%M UTC")),
        ("measured by", f"kettlefield {campaign['tool_version']}"),
    ]
