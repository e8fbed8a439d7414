"""Sixth question: how much memory, does it grow, and was it predicted?"""

import pandas as pd

from kettlefield.core.statistics.estimate import Estimate
from kettlefield.core.units import format_bytes, three_digits
from kettlefield.results.frames import memory_series
from kettlefield.views.figures.memory_charts import over_time, predicted_beside_measured
from kettlefield.views.material import Material
from kettlefield.views.parts import Section, Table, Words, drawn, present


def section(material: Material) -> Section:
    """The section."""
    budget = material.decision.budget_bytes
    frame = pd.DataFrame(
        [
            {"candidate": row.candidate, "predicted_bytes": row.predicted_bytes, "peak_bytes": row.peak_bytes}
            for row in material.decision.table.rows
        ],
        columns=["candidate", "predicted_bytes", "peak_bytes"],
    )
    parts = present(
        drawn(over_time(memory_series(material.record), budget_bytes=budget)),
        drawn(predicted_beside_measured(frame, budget_bytes=budget)),
        _slopes(material),
        _energy(material),
    )
    if not any(one.phases for one in material.memories):
        parts = (Words(text="Memory was not measured: no server was started by the plan."), *parts)
    return Section(anchor="memory", title="Memory and energy", parts=parts)


def _slopes(material: Material) -> Table | None:
    rows = []
    for one in material.memories:
        header = "-" if one.predicted_token_bytes is None else format_bytes(one.predicted_token_bytes)
        for what, slope, predicted in (
            ("each token of context", one.token_slope_bytes, header),
            ("each further stream", one.stream_slope_bytes, "-"),
            ("each request", one.leak_bytes, "none"),
        ):
            if slope is not None:
                leak = " - it leaks" if what == "each request" and one.leaks else ""
                rows.append((one.candidate, what + leak, *_signed(slope), predicted))
    if not rows:
        return None
    return Table(
        title="What memory grows with",
        heads=("candidate", "grows with", ">by", "95 % interval", ">n", ">by the header"),
        rows=tuple(rows),
        note="A server that takes its whole key/value cache at the start does not grow with context or streams.",
    )


def _signed(slope: Estimate) -> tuple[str, str, str]:
    bounds = " to ".join("?" if bound is None else _bytes(bound) for bound in (slope.low, slope.high))
    return _bytes(slope.value), bounds, str(slope.n)


def _bytes(value: float) -> str:
    return f"{'-' if value < 0 else '+'}{format_bytes(abs(value))}"


def _energy(material: Material) -> Table:
    def joules(value: float | None) -> str:
        return "-" if value is None else f"{three_digits(value)} J"

    return Table(
        title="Energy",
        heads=("candidate", ">a token", ">a solved exercise", "reported by"),
        rows=tuple(
            (
                one.candidate,
                joules(one.joules_per_token),
                joules(one.joules_per_solved),
                one.energy_from or "not available here",
            )
            for one in material.memories
        ),
        note="Of the answers part. Nothing is estimated: without a counter there is no figure.",
    )
