"""The criteria one by one, and the evidence on which the verdict rests."""

import json
from collections.abc import Mapping, Sequence
from typing import Any

import pandas as pd

from kettlefield.core.acceptance import Criterion, NoWorse, Threshold
from kettlefield.core.units import format_duration
from kettlefield.decision.provenance import Standing
from kettlefield.results.look_rows import Look, looks_of
from kettlefield.results.rig_rows import rig_rows
from kettlefield.views.criteria_view import criteria_tables, glance_table
from kettlefield.views.figures.look_charts import looks_over_exercises
from kettlefield.views.looks_view import looks_table, stops_table
from kettlefield.views.material import Material
from kettlefield.views.parts import Part, Section, drawn
from kettlefield.views.sections.openings import criteria_opening, evidence_opening
from kettlefield.views.style import Chart
from kettlefield.views.table import Table, Words, folded, present, table, words


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
