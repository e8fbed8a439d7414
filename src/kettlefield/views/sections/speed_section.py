"""Fifth question: how fast, for how many people?"""

import pandas as pd

from kettlefield.core.measures import Unit
from kettlefield.core.statistics.estimate import with_interval
from kettlefield.results.capacity import floor_of
from kettlefield.results.frames import depth_samples, grid_samples
from kettlefield.views.figures.speed_charts import decode_against_depth, distribution, loads_and_ceilings, under_load
from kettlefield.views.material import Material
from kettlefield.views.parts import Section, Table, Words, drawn, present
from kettlefield.views.speed_table import speed_table
from kettlefield.views.style import Chart


def section(material: Material) -> Section:
    """The section."""
    firsts, gaps = grid_samples(material.timed)
    floors = [one.depth.floor_tps for one in material.timings]
    parts = present(
        _table(material),
        drawn(distribution(firsts, name="first-token", what="time to first token")),
        drawn(distribution(gaps, name="token-gaps", what="gap between events with text")),
        drawn(decode_against_depth(depth_samples(material.timed), floor_tps=max(floors, default=0.0))),
        drawn(_under_load(material)),
        _capacity_table(material),
        drawn(_loads(material)),
        _remarks(material),
    )
    if not len(material.timed):
        parts = (Words(text="No request was timed: the plan's [speed] asks for none, or it has not run yet."), *parts)
    return Section(anchor="speed", title="Speed", parts=parts)


def _table(material: Material) -> Table:
    floor = floor_of(material.record)
    rows = material.decision.table.rows
    heads, cells = speed_table(rows, floor)
    return Table(
        title="One request at a time",
        heads=("candidate", *heads),
        rows=tuple((row.candidate, *found) for row, found in zip(rows, cells, strict=True)),
        note="Quantiles with 95 % intervals; ?: too few samples for that bound. Tokens are the model's own: across "
        "models compare seconds and memory for each solved exercise instead.",
    )


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


def _capacity_table(material: Material) -> Table | None:
    rows = []
    for one in material.timings:
        found = one.capacity
        if found is not None:
            fails = "-" if found.fails_rps is None else f"{found.fails_rps:.3g}"
            holds = "-" if found.holds_rps is None else f"{found.holds_rps:.3g}"
            serves = "-" if found.engineers is None else f"{found.engineers:,}"
            rows.append((one.candidate, holds, fails, serves, str(len(found.tries)), found.why_ended))
    if not rows:
        return None
    return Table(
        title="Capacity",
        heads=("candidate", ">holds at, requests/s", ">fails at", ">engineers served", ">rates tried", "ended"),
        rows=tuple(rows),
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


def _remarks(material: Material) -> Table | None:
    rows = []
    for one in material.timings:
        ratio = "-" if one.prompt_cache_ratio is None else with_interval(one.prompt_cache_ratio, Unit.RATIO)
        drift = "-" if one.drift is None else f"{one.drift:.2f}"
        if one.depth.past_window is not None or one.prompt_cache_ratio is not None or one.drift is not None:
            rows.append((one.candidate, ratio, drift, one.depth.past_window or "-"))
    if not rows:
        return None
    return Table(
        title="Worth knowing",
        heads=(
            "candidate",
            ">first token of a cached prompt over a new one's",
            ">drift of decoding",
            "past its window",
        ),
        rows=tuple(rows),
        note="Drift: decode rate of the last third of the requests over the first third's, unless chance explains it.",
    )
