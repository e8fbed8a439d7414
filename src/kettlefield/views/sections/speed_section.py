"""Fifth question: how fast, for how many people?"""

import pandas as pd

from kettlefield.results.capacity import floor_of
from kettlefield.results.series import depth_samples, grid_samples
from kettlefield.views.comparison_view import speed_table
from kettlefield.views.figures.speed_charts import decode_against_depth, distribution, loads_and_ceilings, under_load
from kettlefield.views.material import Material
from kettlefield.views.parts import Part, Section, drawn
from kettlefield.views.speed_view import (
    capacity_table,
    closed_loop_table,
    depth_table,
    depth_words,
    itl_table,
    latency_table,
    loads_table,
    prompt_cache_table,
    remarks,
    thinking_table,
)
from kettlefield.views.style import Chart
from kettlefield.views.table import Words, folded, present


def speed_section(material: Material) -> Section:
    """The section."""
    firsts, gaps = grid_samples(material.timed)
    floor = floor_of(material.record)
    floors = [one.depth.floor_tps for one in material.timings]
    parts: tuple[Part, ...] = present(
        speed_table(material.decision.table.rows, floor),
        drawn(distribution(firsts, name="ttft", what="Time to first token, one request at a time")),
        drawn(distribution(gaps, name="itl", what="Inter-token latency, one request at a time")),
        drawn(decode_against_depth(depth_samples(material.timed), floor_tps=max(floors, default=0.0))),
        drawn(_under_load(material)),
        capacity_table(material.timings),
        drawn(_loads(material)),
        folded(latency_table(material.timings, floor)),
        folded(itl_table(material.timings, floor)),
        folded(depth_table(material.timings, floor)),
        folded(prompt_cache_table(material.timings, floor)),
        folded(closed_loop_table(material.timings, floor)),
        folded(loads_table(material.timings)),
        folded(thinking_table(material.decision.table.rows)),
        _worth_knowing(material),
    )
    if not len(material.timed):
        parts = (Words(text="No request was timed: the plan's [speed] asks for none, or it has not run yet."), *parts)
    return Section(anchor="speed", title="Speed", parts=parts)


def _under_load(material: Material) -> Chart | None:
    clients, tries, capacities = [], [], {}
    for one in material.timings:
        for cell, rate in zip(one.closed_loop.cells, one.closed_loop.rates_tps, strict=True):
            if rate is not None:
                count = int(cell.label)
                saturation = count == one.closed_loop.saturation_concurrency
                clients.append(
                    {"candidate": one.candidate, "concurrency": count, "rate_tps": rate, "saturation": saturation}
                )
        if one.capacity is not None:
            tries += [{"candidate": one.candidate, **attempt} for attempt in one.capacity.tries]
            if one.capacity.holds_rps is not None:
                capacities[one.candidate] = one.capacity.holds_rps
    return under_load(
        pd.DataFrame(clients, columns=["candidate", "concurrency", "rate_tps", "saturation"]),
        pd.DataFrame(tries) if tries else pd.DataFrame(columns=["candidate", "rate_rps", "ttft_p95_s", "held"]),
        capacities=capacities,
    )


def _loads(material: Material) -> Chart | None:
    loads = [
        {"candidate": one.candidate, "kind": load.kind, "load_s": load.load_s}
        for one in material.timings
        for load in one.loads
    ]
    ceilings = [
        {"candidate": row.candidate, "share": row.ceiling_share}
        for row in material.decision.table.rows
        if row.ceiling_share is not None
    ]
    return loads_and_ceilings(
        pd.DataFrame(loads, columns=["candidate", "kind", "load_s"]),
        pd.DataFrame(ceilings, columns=["candidate", "share"]),
    )


def _worth_knowing(material: Material) -> Words | None:
    items = [f"{row.candidate}: {text}" for row in material.timings for text in depth_words(row)]
    items += remarks(material.timings)
    return Words(text="Worth knowing:", items=tuple(items)) if items else None
