"""The verdict and what it holds for, the criteria one by one, and the evidence on which all of it rests."""

import json
from collections.abc import Mapping, Sequence
from datetime import UTC, datetime
from typing import Any

import pandas as pd

from kettlefield.core.acceptance import Criterion, NoWorse, Status, Threshold, Verdict
from kettlefield.core.plaintext import as_sentence
from kettlefield.core.statistics.estimate import in_words
from kettlefield.core.units import format_bytes, format_duration
from kettlefield.decision.measures import MEASURES
from kettlefield.decision.provenance import Standing
from kettlefield.decision.verdict import CandidateVerdict
from kettlefield.results.look_rows import Look, looks_of
from kettlefield.results.rig_rows import rig_rows
from kettlefield.results.rows import not_measured
from kettlefield.server.loaded import named
from kettlefield.views.criteria_view import criteria_tables, glance_table, signatures_table
from kettlefield.views.figures.level_charts import candidates_at_a_glance
from kettlefield.views.figures.look_charts import looks_over_exercises
from kettlefield.views.looks_view import looks_table, stops_table
from kettlefield.views.material import Material, solved_frame
from kettlefield.views.parts import Beside, Drawn, Part, Section, drawn
from kettlefield.views.rigs_view import rig_parts, verdict_matrix
from kettlefield.views.sections.openings import criteria_opening, evidence_opening
from kettlefield.views.style import Chart
from kettlefield.views.table import Table, Words, folded, present, table, words


def headline(material: Material) -> str:
    """Verdict and recommendation in one sentence."""
    decision = material.decision
    if decision.recommended:
        choices = " and ".join(decision.recommended.values())
        others = sum(one.verdict is Verdict.APPROVED for one in decision.verdicts) - len(decision.recommended)
        also = f"; {others} more {'is' if others == 1 else 'are'} approved" if others else ""
        where = "on their rigs" if rig_rows(material.record) else "on this machine"
        return f"Approved for self-hosting {where}: {choices}{also}."
    open_ones = [one.candidate for one in decision.verdicts if one.verdict is Verdict.UNDECIDED]
    if open_ones:
        return f"Nothing is approved yet: the evidence leaves {', '.join(open_ones)} undecided."
    return (
        "Nothing is approved: every candidate fails a criterion." if decision.verdicts else "Nothing was measured yet."
    )


def verdict_section(material: Material) -> Section:
    """The decision on one screen: a sentence a model, the figures that carry it, what it does not cover, who signed."""
    decision = material.decision
    conditions = tuple(
        f"{candidate}: {'; '.join(decision.conditions[candidate])}" for candidate in decision.recommended.values()
    )
    baselines = [row.candidate for row in decision.table.rows if row.baseline]
    return Section(
        anchor="verdict",
        title="Verdict",
        parts=present(
            Words(text="", items=tuple(_of_model(material, model) for model in _models(material))),
            Beside(
                left=present(
                    # of several rigs the first question is which level on which
                    verdict_matrix(decision, rig_rows(material.record)),
                    _carried_by(material),
                    Words(text="Conditions:", items=conditions, tone="small") if conditions else None,
                ),
                right=present(_glance(material), _not_covered(material), _unsigned(material)),
            ),
            *_signed(material),
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


MOST_CARRIED = 2  # candidates whose figures stand beside the decision


def _models(material: Material) -> list[str]:
    """The models that are up for approval, in the record's order."""
    return list(dict.fromkeys(row.model for row in material.decision.table.rows if not row.baseline))


def _of_model(material: Material, model: str) -> str:
    """The decision on a model in a sentence, with its reason."""
    decision = material.decision
    mine = {row.candidate for row in decision.table.rows if row.model == model}
    verdicts = [one for one in decision.verdicts if one.candidate in mine]
    chosen = decision.recommended.get(model)
    if chosen is not None:
        count = len(decision.criteria)
        met = "its criterion is met" if count == 1 else f"all {count} criteria are met"
        approved = [one for one in verdicts if one.verdict is Verdict.APPROVED]
        why = decision.why_recommended[model] if len(approved) > 1 else "the only one of its levels that is approved"
        return f"{model}: approve {chosen}, {why}. {as_sentence(met)}"
    open_ones = [one for one in verdicts if one.verdict is Verdict.UNDECIDED]
    if not decision.criteria:
        return f"{model}: nothing can be approved, since the plan sets no criteria."
    if open_ones:
        first = open_ones[0]
        reasons = [one.reason for one in first.judgements if one.status is Status.UNDECIDED and one.reason]
        why = f": {reasons[0]}" if reasons else ""
        return f"{model}: not decided. {first.candidate} is undecided{why}."
    nearest = _nearest(verdicts)
    if nearest is None:
        return f"{model}: nothing was measured."
    failed = [one.criterion for one in nearest.judgements if one.status is Status.NOT_MET]
    wanted = "; ".join(f"{one.label} {one.wanted}" for one in failed)
    return f"{model}: do not approve. The nearest, {nearest.candidate}, does not meet: {wanted}."


def _nearest(verdicts: Sequence[CandidateVerdict]) -> CandidateVerdict | None:
    """The candidate with the fewest criteria that are not met."""
    return min(verdicts, key=lambda one: sum(each.status is Status.NOT_MET for each in one.judgements), default=None)


def _carried_by(material: Material) -> Table | None:
    """The criteria with what was found of the candidates that the decision is about."""
    decision = material.decision
    shown = [decision.of(name) for name in decision.recommended.values()]
    if not shown:
        shown = [one for one in decision.verdicts if one.verdict is Verdict.UNDECIDED] or [_nearest(decision.verdicts)]
    carried = [one for one in shown if one is not None and one.judgements][:MOST_CARRIED]
    if not carried:
        return None
    return table(
        "The figures that carry it",
        [words("criterion"), *(column for one in carried for column in (words(one.candidate), words("")))],
        [
            (
                f"{criterion.label} {criterion.wanted}",
                *(
                    cell
                    for judged in (one.judgements[at] for one in carried)
                    for cell in (in_words(judged.found, MEASURES[criterion.measure].unit), judged.status.value)
                ),
            )
            for at, criterion in enumerate(decision.criteria)
        ],
    )


def _glance(material: Material) -> Drawn | None:
    """All candidates in a figure, with the thresholds."""
    decision = material.decision
    frame = solved_frame(material)
    least = next(
        (
            one.threshold.at_least
            for one in decision.criteria
            if one.measure == "pass_rate" and not one.among and isinstance(one.threshold, Threshold)
        ),
        None,
    )
    if not len(frame):
        return None
    chosen = set(decision.recommended.values())
    return drawn(candidates_at_a_glance(frame, chosen=chosen, budget_bytes=decision.budget_bytes, least_rate=least))


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
    few = [row.candidate for row in decision.table.rows if row.trials < row.planned]
    if few:
        stopped = material.campaign["until"] is not None
        said = "stopped when decided, so not everything was asked" if stopped else "not all trials were run"
        lines.append(f"{said}: {', '.join(few)}")
    return Words(text="What it does not cover:", items=tuple(lines), tone="warning") if lines else None


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


def _unsigned(material: Material) -> Words | None:
    """The command that signs, where nobody has."""
    if material.audit.signatures:
        return None
    said = (
        f'Nobody has signed this decision yet. kettlefield decide {material.record.place.short} --by "NAME" signs it.'
    )
    return Words(text=said, tone="warning")


def _signed(material: Material) -> tuple[Words | Table, ...]:
    audit = material.audit
    if not audit.signatures:
        return ()
    signed = present(signatures_table(audit.signatures))
    if audit.faults:
        return *signed, Words(text="This record is not as it was signed:", items=audit.faults, tone="warning")
    return *signed, Words(text="Nothing in the record was changed since the last signature.")


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


def criteria_section(material: Material) -> Section:
    """The section."""
    intro = Words(
        text="Set before the campaign began, and held in the record since. Of an estimate the bound must clear the "
        "threshold, not the value; bounds are one-sided.",
        tone="small",
    )
    looks = looks_of(material.record)
    names = [row.candidate for row in material.decision.table.rows]
    parts: tuple[Part, ...] = present(
        criteria_opening(material),
        intro,
        glance_table(material.decision),
        *map(folded, criteria_tables(material.decision.verdicts)),
        stops_table(material.record, names, looks, material.decision.criteria),
        *(drawn(_look_chart(looks, number, one)) for number, one in enumerate(material.decision.criteria, 1)),
        folded(looks_table(looks, material.decision.criteria)),
    )
    if not material.decision.criteria:
        parts = (Words(text="The plan sets no criteria, so nothing can be approved.", tone="warning"),)
    return Section(anchor="criteria", title="Criteria", parts=parts)


def _look_chart(looks: Sequence[Look], number: int, criterion: Criterion) -> Chart | None:
    """How a criterion stood at each look; None where it was decided in one."""
    threshold = criterion.threshold
    if isinstance(threshold, NoWorse):
        at, unit = -threshold.margin, "difference of pass rates"
    elif isinstance(threshold, Threshold):
        bound = threshold.at_least if threshold.at_least is not None else threshold.at_most
        at, unit = bound or 0.0, "pass rate"
    else:
        return None
    names = ("candidate", "exercises", "planned", "value", "low", "high", "status")
    rows = [
        (one.candidate, one.exercises, one.planned, one.figure.value, one.figure.low, one.figure.high, one.status.value)
        for one in looks
        if one.criterion == number and one.figure is not None
    ]
    frame = pd.DataFrame(rows, columns=list(names)).astype({name: float for name in ("value", "low", "high")})
    label = f"{criterion.label} {criterion.wanted}"
    return looks_over_exercises(frame, number=number, label=label, threshold=at, unit=unit)


def evidence_section(material: Material) -> Section:
    """The section."""
    return Section(
        anchor="evidence",
        title="Evidence",
        parts=present(
            evidence_opening(material),
            table("Campaign", [words(""), words("")], _campaign(material)),
            _weights(material),
            _settings(material),
            Words(text="Not measured:", items=_not_measured(material), tone="warning")
            if _not_measured(material)
            else None,
            Words(text="Noted while it ran:", items=material.notes) if material.notes else None,
            _disturbed(material),
            Words(
                text="Every reply, file, check and timing is in the record: `kettlefield trials RECORD --open ID`. How "
                "each figure is defined, and its source: docs/method.md of the program.",
                tone="small",
            ),
        ),
    )


def _campaign(material: Material) -> list[tuple[str, str]]:
    campaign, rigs = material.campaign, rig_rows(material.record)
    of_rigs = [
        (f"{what} of {one.name}", text) for one in rigs for what, text in _rig_in_detail(one.facts)
    ] or _rig_in_detail(campaign["rig"])
    return [
        ("plan", campaign["plan_digest"]),
        ("suite", f"{campaign['suite_name']}, {campaign['suite_digest']}"),
        *of_rigs,
        ("results", material.audit.signatures[-1].results_digest if material.audit.signatures else "not signed yet"),
    ]


def _rig_in_detail(rig: Mapping[str, Any]) -> list[tuple[str, str]]:
    host, calibration = rig.get("host", {}), rig.get("calibration")
    isolation = rig.get("isolation", {})
    lacks = f", without {', '.join(isolation['lacks'])}" if isolation.get("lacks") else ""
    floor = (
        "never calibrated on this machine"
        if not calibration
        else f"stopwatch floor {format_duration(calibration['floor_s'])}"
    )
    return [
        (
            "rig",
            f"{host.get('system', '?')}, kernel {host.get('kernel', '?')}, fingerprint {rig.get('fingerprint', '?')}",
        ),
        (
            "drivers",
            ", ".join(f"{one['name']} {one['driver']}" for one in rig.get("accelerators", ())) or "no accelerator",
        ),
        ("toolchains", ", ".join(f"{name} {version}" for name, version in rig.get("toolchains", {}).items()) or "-"),
        ("isolation", f"{isolation.get('name', '?')}{lacks}"),
        ("calibration", floor),
    ]


def _weights(material: Material) -> Table | None:
    rows = [
        (one.candidate, str(one.weights.get("sha256") or "-"), one.server_words or "-", *_settings_left_open(one))
        for one in material.standings.values()
    ]
    heads = ("candidate", "SHA-256 of its weights", "server", "sent at neutral values", "at an unknown default")
    return table("Weights and servers", [words(head) for head in heads], rows)


def _settings_left_open(one: Standing) -> tuple[str, str]:
    """Sampling settings that the plan leaves open: those that the server took neutral values for, and the others."""
    facts = one.server.get("preflight") or {}
    neutral = ", ".join(f"{name} {value:g}" for name, value in facts.get("neutral", {}).items())
    return neutral or "-", ", ".join(facts.get("unknown_default", ())) or "-"


def _settings(material: Material) -> Table | None:
    """Every setting, those that all candidates share once."""
    flat = {name: dict(_leaves(one.settings)) for name, one in material.standings.items()}
    keys = list(dict.fromkeys(key for one in flat.values() for key in one))
    rows = []
    for key in keys:
        values = {name: one.get(key, "not there") for name, one in flat.items()}
        if len(set(values.values())) == 1:
            rows.append((key, next(iter(values.values()))))
        else:
            rows.append((key, "; ".join(f"{name}: {value}" for name, value in values.items())))
    return table("Settings", [words("setting"), words("value")], rows)


def _leaves(value: Any, path: str = "") -> list[tuple[str, str]]:
    if isinstance(value, Mapping):
        return [leaf for key, inner in value.items() for leaf in _leaves(inner, f"{path}.{key}".lstrip("."))]
    return [(path, json.dumps(value, ensure_ascii=False))]


def _not_measured(material: Material) -> tuple[str, ...]:
    reasons = []
    for row in material.decision.table.rows:
        if row.trials < row.planned:
            reasons.append(f"{row.candidate}: {row.planned - row.trials} of {row.planned} trials")
        missing = [
            words for words, value in (("peak memory", row.peak_bytes), ("load time", row.load_s)) if value is None
        ]
        if not row.speed["ttft_s"]:
            missing.append("speed")
        if missing:
            reasons.append(f"{row.candidate}: {', '.join(missing)}")
    for one in material.timings:
        reasons += [
            f"{one.candidate}: {step} ended early: {why}"
            for step, why in one.ended.items()
            if why not in {"done", "precise"}
        ]
    return tuple(reasons)


def _disturbed(material: Material) -> Words | None:
    count = int(material.timed["disturbed"].notna().sum())
    if not count:
        return None
    whole = len(material.timed)
    return Words(
        text=f"{count} of {whole} timed requests were disturbed by other work of the host and are left out; where "
        "too few others are left, the figure is called disturbed and decides nothing."
    )
