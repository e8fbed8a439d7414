"""Memory by phase, what it grows with, and energy."""

from collections.abc import Sequence

from kettlefield.core.as_dict import as_dict
from kettlefield.core.plaintext import visible
from kettlefield.core.statistics.estimate import Estimate
from kettlefield.core.units import format_bytes
from kettlefield.record.store import Record
from kettlefield.results.frames import campaign_facts
from kettlefield.results.memory_use import Memory, memories
from kettlefield.views.table import (
    Align,
    Column,
    Table,
    View,
    chosen,
    count,
    number,
    present,
    signed_size,
    size,
    table,
    words,
)


def memory_view(record: Record, only: str | None = None) -> View:
    """Memory and energy of every candidate.

    Raises
    ------
    InputError
        No campaign was begun, or the pattern matches nothing.
    """
    facts, rows = campaign_facts(record), chosen(memories(record), only)
    return View(
        title=facts["title"],
        simulated=facts["simulated"],
        parts=present(phases_table(rows), less_table(rows), growth_table(rows), energy_table(rows)),
        document={
            "simulated": facts["simulated"],
            "candidates": [{**as_dict(row), "leaks": row.leaks} for row in rows],
        },
    )


def phases_table(rows: Sequence[Memory]) -> Table | None:
    """Peaks of every phase."""
    return table(
        "Memory by phase",
        [
            words("candidate", once=True),
            words("phase"),
            count("concurrency"),
            *(size(name) for name in ("peak", "at its end", "host", "mapped files", "accelerator")),
            number("energy", "J"),
        ],
        [
            (
                *(row.candidate, phase.phase, phase.concurrency, phase.peak_bytes, phase.end_bytes),
                *(phase.host_peak_bytes, phase.mapped_peak_bytes, phase.accelerator_peak_bytes, phase.energy_j),
            )
            for row in rows
            for phase in row.phases
        ],
        note="Host: the server's processes, shared pages divided (PSS). Mapped files are the part of it that the page "
        "cache holds, such as weights.",
    )


def less_table(rows: Sequence[Memory]) -> Table | None:
    """How much less each level takes than its reference level."""
    return table(
        "Memory saved against the reference level, once loaded",
        [
            words("candidate"),
            size("once loaded"),
            words("less than"),
            _less("measured"),
            _less("by the files"),
        ],
        [
            (row.candidate, row.loaded_bytes, less.reference, less.loaded_bytes, less.weights_bytes)
            for row in rows
            if (less := row.less_than_reference) is not None
        ],
        note="What the server itself takes cancels out.",
    )


def growth_table(rows: Sequence[Memory]) -> Table | None:
    """What memory grows with."""
    cells: list[tuple[object, ...]] = []
    for row in rows:
        slopes: tuple[tuple[str, Estimate | None, int | None], ...] = (
            ("each token of context", row.token_slope_bytes, row.predicted_token_bytes),
            ("each further request in flight", row.stream_slope_bytes, None),
            ("each request" + (": IT LEAKS" if row.leaks else ""), row.leak_bytes, None),
        )
        cells += [
            (row.candidate, what, slope if slope is not None else "not measured", slope.n if slope else None, header)
            for what, slope, header in slopes
        ]
    return table(
        "What memory grows with",
        [
            words("candidate", once=True),
            words("grows with"),
            signed_size("by (95 % interval)"),
            count("n"),
            size("predicted by the header"),
        ],
        cells,
        note="A server that takes its whole KV cache at the start does not grow with context or concurrency.",
    )


def energy_table(rows: Sequence[Memory]) -> Table | None:
    """Energy of the answers part."""
    absent = "not available here"
    return table(
        "Energy",
        [
            words("candidate"),
            size("accelerator in use before"),
            number("per token", "J"),
            number("per solved exercise", "J"),
            Column(name="reported by", align=Align.LEFT),
        ],
        [
            (
                row.candidate,
                row.baseline_bytes,
                absent if row.energy_from is None else row.joules_per_token,
                absent if row.energy_from is None else row.joules_per_solved,
                absent if row.energy_from is None else visible(row.energy_from),
            )
            for row in rows
        ],
        note="Of the answers part. Nothing is estimated: without a counter there is no figure.",
    )


def _less(name: str) -> Column:
    """How much less; a minus: more."""
    return Column(
        name=name,
        align=Align.RIGHT,
        show=lambda value: f"{'-' if value < 0 else ''}{format_bytes(abs(round(value)))}",
    )
