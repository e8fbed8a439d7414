"""Sixth question: how much memory, does it grow, and was it predicted?"""

import pandas as pd

from kettlefield.results.series import memory_series
from kettlefield.views.figures.memory_charts import over_time, predicted_beside_measured
from kettlefield.views.material import Material
from kettlefield.views.memory_view import energy_table, growth_table, less_table, phases_table
from kettlefield.views.parts import Part, Section, drawn
from kettlefield.views.table import Words, folded, present


def memory_section(material: Material) -> Section:
    """The section."""
    budget = material.decision.budget_bytes
    frame = pd.DataFrame(
        [
            {"candidate": row.candidate, "predicted_bytes": row.predicted_bytes, "peak_bytes": row.peak_bytes}
            for row in material.decision.table.rows
        ],
        columns=["candidate", "predicted_bytes", "peak_bytes"],
    )
    parts: tuple[Part, ...] = present(
        drawn(over_time(memory_series(material.record), budget_bytes=budget)),
        drawn(predicted_beside_measured(frame, budget_bytes=budget)),
        growth_table(material.memories),
        less_table(material.memories),
        energy_table(material.memories),
        folded(phases_table(material.memories)),
    )
    if not any(one.phases for one in material.memories):
        parts = (Words(text="Memory was not measured: no server was started by the plan."), *parts)
    return Section(anchor="memory", title="Memory and energy", parts=parts)
