"""Levels side by side, speed, memory and marks: what was measured, for a reader who wants to check it."""

import pandas as pd

from kettlefield.core.acceptance import NoWorse
from kettlefield.core.as_dict import as_dict
from kettlefield.results.capacity import floor_of
from kettlefield.results.comparison import ends_of_scale
from kettlefield.results.rows import candidate_rows
from kettlefield.results.series import depth_samples, grid_samples, memory_series
from kettlefield.views.answers_view import replies_table, temperature_words
from kettlefield.views.comparison_view import discordant_table, kv_table, paired_table, solved_table, speed_table
from kettlefield.views.fidelity_view import fidelity_table, language_table
from kettlefield.views.figures.fidelity_charts import divergence_over_bits
from kettlefield.views.figures.fill_charts import pass_rate_over_fill
from kettlefield.views.figures.level_charts import agreement, differences, solved_against_memory
from kettlefield.views.figures.memory_charts import over_time, predicted_beside_measured
from kettlefield.views.figures.queue_charts import queues_under_load
from kettlefield.views.figures.speed_charts import (
    decode_against_depth,
    distribution,
    loads_and_ceilings,
    spread,
    under_load,
)
from kettlefield.views.fill_view import fill_pairs_table, fill_table
from kettlefield.views.marks_view import marks_parts
from kettlefield.views.material import Material, solved_frame
from kettlefield.views.memory_view import energy_table, growth_table, less_table, phases_table
from kettlefield.views.needed_parts_view import needed_parts_tables
from kettlefield.views.parts import Part, Section, drawn
from kettlefield.views.sections.openings import levels_opening, marks_opening, memory_opening, speed_opening
from kettlefield.views.server_words_view import counter_words, counters_table, gauges_table
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

TTFT, ITL = "Time to first token, one request at a time", "Inter-token latency, one request at a time"


def levels_section(material: Material) -> Section:
    """The section."""
    rows = material.decision.table.rows
    solved = solved_frame(material)
    accepted = next((one for one in material.decision.criteria if isinstance(one.threshold, NoWorse)), None)
    confidence = accepted.confidence if accepted is not None else 0.95
    margin = accepted.threshold.margin if accepted is not None and isinstance(accepted.threshold, NoWorse) else None
    against = _differences(material, confidence)
    replies = pd.DataFrame([as_dict(one) for one in material.replies])
    return Section(
        anchor="levels",
        title="Levels side by side",
        parts=present(
            levels_opening(material),
            solved_table(rows),
            drawn(
                solved_against_memory(
                    solved, budget_bytes=material.decision.budget_bytes, trials=max((r.trials for r in rows), default=0)
                )
            ) if len(solved) else None,
            drawn(differences(against, margin=margin, confidence=confidence)),
            paired_table(rows),
            discordant_table(rows),
            kv_table(rows),
            drawn(divergence_over_bits(_divergences(material))),
            fidelity_table(material.fidelities),
            language_table(material.fidelities),
            drawn(pass_rate_over_fill(_fills(material))),
            fill_table(material.fills),
            fill_pairs_table(material.fills),
            *needed_parts_tables(material.about_texts),
            drawn(agreement(replies)),
            folded(replies_table(material.replies)),
            temperature_words(material.replies),
            *(Words(text=f"{line}.", tone="warning") for line in ends_of_scale(rows)),
            *(Words(text=f"{name}: {words}.", tone="warning") for name, words in material.mixed.items()),
        ),
    )  # fmt: skip


def _divergences(material: Material) -> pd.DataFrame:
    """Each level's divergence from its reference beside its bits and its pass rate."""
    names = ("candidate", "model", "level", "bits", "kl", "kl_low", "kl_high", "pass_rate", "low", "high", "texts")
    found = {one.candidate: one for one in material.fidelities}
    bits = {row.name: row.weights_facts.get("bits_per_weight") for row in candidate_rows(material.record)}
    rows = []
    for row in material.decision.table.rows:
        one = found.get(row.candidate)
        kl = one.pairing.kl_divergence if one is not None and one.pairing is not None else None
        rate = row.pass_rate
        drop = (kl.value, kl.low, kl.high) if kl is not None else (None, None, None)
        solved = (rate.value, rate.low, rate.high) if rate is not None else (None, None, None)
        texts = one.texts if one is not None else 0
        rows.append((row.candidate, row.model, row.level, bits.get(row.candidate), *drop, *solved, texts))
    frame = pd.DataFrame(rows, columns=list(names))
    return frame.astype({name: float for name in names[3:]})


def _fills(material: Material) -> pd.DataFrame:
    """Each candidate at each fill of its context, figures with their bounds."""
    rows = []
    for one in material.fills:
        rate, gap = one.pass_rate, one.difference
        solved = (rate.value, rate.low, rate.high) if rate is not None else (None, None, None)
        beside = (gap.value, gap.low, gap.high) if gap is not None else (None, None, None)
        rows.append((one.candidate, one.fill or 0.0, *solved, *beside, one.ttft_s, one.trials))
    names = ("candidate", "fill", "pass_rate", "low", "high", "difference", "difference_low", "difference_high")
    frame = pd.DataFrame(rows, columns=[*names, "ttft_s", "trials"])
    return frame.astype({name: float for name in (*names[1:], "ttft_s")})


def _differences(material: Material, confidence: float) -> pd.DataFrame:
    """Each level against its reference, with one-sided bounds at a confidence and the two-sided 95 % interval."""
    rows = []
    for row in material.decision.table.rows:
        if row.against is not None:
            gap, bounds = row.difference(), row.difference(confidence=2 * confidence - 1)
            assert gap is not None and bounds is not None  # noqa: S101 - there is a reference level
            rows.append(
                {
                    "candidate": row.candidate,
                    "against": row.against.reference,
                    "difference": gap.value,
                    "low": gap.low,
                    "high": gap.high,
                    "lower_bound": bounds.low,
                    "upper_bound": bounds.high,
                    "pairs": row.against.pairs.pairs,
                }
            )
    return pd.DataFrame(rows)


def speed_section(material: Material) -> Section:
    """The section."""
    firsts, gaps = grid_samples(material.timed)
    floor = floor_of(material.record)
    floors = [one.depth.floor_tps for one in material.timings]
    parts: tuple[Part, ...] = present(
        speed_opening(material),
        speed_table(material.decision.table.rows, floor),
        drawn(spread(firsts, name="ttft", what=TTFT, floor=floor)),
        drawn(distribution(firsts, name="ttft-all", what=f"{TTFT}, every sample", floor=floor), folded=True),
        drawn(spread(gaps, name="itl", what=ITL, floor=floor)),
        drawn(distribution(gaps, name="itl-all", what=f"{ITL}, every sample", floor=floor), folded=True),
        drawn(decode_against_depth(depth_samples(material.timed), floor_tps=max(floors, default=0.0))),
        drawn(_under_load(material)),
        capacity_table(material.timings),
        drawn(queues_under_load(material.server_words.load)),
        *counter_words(material.server_words),
        drawn(_loads(material)),
        folded(latency_table(material.timings, floor)),
        folded(itl_table(material.timings, floor)),
        folded(depth_table(material.timings, floor)),
        folded(prompt_cache_table(material.timings, floor)),
        folded(closed_loop_table(material.timings, floor)),
        folded(counters_table(material.server_words)),
        folded(gauges_table(material.server_words)),
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
            quiet = [attempt for attempt in one.capacity.tries if not attempt.get("disturbed")]
            tries += [{"candidate": one.candidate, **attempt} for attempt in quiet]
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
        memory_opening(material),
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


def marks_section(material: Material) -> Section | None:
    """The section; none when nobody marked anything."""
    marking = material.marking
    if marking.is_empty:
        return None
    return Section(
        anchor="marks", title="Marks", parts=(marks_opening(material), *marks_parts(marking, marking.candidates))
    )
