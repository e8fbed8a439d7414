"""The verdict and what it holds for, the criteria one by one, and the evidence on which all of it rests."""

import json
from collections.abc import Mapping
from datetime import UTC, datetime
from typing import Any

from kettlefield.core.acceptance import Verdict
from kettlefield.core.units import format_bytes, format_duration
from kettlefield.decision.provenance import Standing
from kettlefield.results.rows import not_measured
from kettlefield.server.loaded import named
from kettlefield.views.criteria_view import criteria_tables, glance_table, signatures_table
from kettlefield.views.material import Material
from kettlefield.views.parts import Part, Section
from kettlefield.views.table import Table, Words, folded, present, table, words


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
    judgements = [one for one in verdict.judgements if one.status.value == wanted]
    return f"{wanted}: " + "; ".join(f"{one.criterion.label} {one.criterion.wanted}" for one in judgements)


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


def criteria_section(material: Material) -> Section:
    """The section."""
    intro = Words(
        text="Set before the campaign began, and held in the record since. Of an estimate the bound must clear the "
        "threshold, not the value; bounds are one-sided.",
        tone="small",
    )
    parts: tuple[Part, ...] = present(
        intro, glance_table(material.decision), *map(folded, criteria_tables(material.decision.verdicts))
    )
    if not material.decision.criteria:
        parts = (Words(text="The plan sets no criteria, so nothing can be approved.", tone="warning"),)
    return Section(anchor="criteria", title="Criteria", parts=parts)


def evidence_section(material: Material) -> Section:
    """The section."""
    return Section(
        anchor="evidence",
        title="Evidence",
        parts=present(
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
    campaign, rig = material.campaign, material.campaign["rig"]
    host, calibration = rig.get("host", {}), rig.get("calibration")
    isolation = rig.get("isolation", {})
    lacks = f", without {', '.join(isolation['lacks'])}" if isolation.get("lacks") else ""
    floor = (
        "never calibrated on this machine"
        if not calibration
        else f"stopwatch floor {format_duration(calibration['floor_s'])}"
    )
    return [
        ("plan", campaign["plan_digest"]),
        ("suite", f"{campaign['suite_name']}, {campaign['suite_digest']}"),
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
        ("results", material.audit.signatures[-1].results_digest if material.audit.signatures else "not signed yet"),
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
