"""Third question: which level is worth its memory?"""

import dataclasses

import pandas as pd

from kettlefield.core.acceptance import NoWorse
from kettlefield.core.measures import Unit
from kettlefield.core.statistics.estimate import in_words, p_words
from kettlefield.core.statistics.paired import score_interval
from kettlefield.core.units import format_bytes, three_digits
from kettlefield.results.comparison import ends_of_scale, on_frontier
from kettlefield.views.figures.level_charts import agreement, differences, solved_against_memory
from kettlefield.views.material import Material
from kettlefield.views.parts import Section, Table, Words, drawn, present


def section(material: Material) -> Section:
    """The section."""
    rows = material.decision.table.rows
    best = set(on_frontier(rows))
    solved = pd.DataFrame(
        {
            "candidate": row.candidate,
            "model": row.model,
            "level": row.level,
            "pass_rate": row.pass_rate.value if row.pass_rate else None,
            "low": row.pass_rate.low if row.pass_rate else None,
            "high": row.pass_rate.high if row.pass_rate else None,
            "peak_bytes": row.peak_bytes,
            "frontier": row.candidate in best,
        }
        for row in rows
    )
    accepted = next((one for one in material.decision.criteria if isinstance(one.threshold, NoWorse)), None)
    confidence = accepted.confidence if accepted is not None else 0.95
    margin = accepted.threshold.margin if accepted is not None and isinstance(accepted.threshold, NoWorse) else None
    against = _differences(material, confidence)
    replies = pd.DataFrame([dataclasses.asdict(one) for one in material.replies])
    warm = max((one.temperature for one in material.replies), default=0.0)
    return Section(
        anchor="levels",
        title="Levels side by side",
        parts=present(
            _table(material),
            drawn(
                solved_against_memory(
                    solved, budget_bytes=material.decision.budget_bytes, trials=max((r.trials for r in rows), default=0)
                )
            ) if len(solved) else None,
            drawn(differences(against, margin=margin, confidence=confidence)),
            _against_table(material),
            drawn(agreement(replies)),
            Words(
                text=f"Temperature is {warm:g}: above 0 replies differ by chance too, not by the level.", tone="small"
            ) if warm else None,
            *(Words(text=f"{line}.", tone="warning") for line in ends_of_scale(rows)),
            *(Words(text=f"{name}: {words}.", tone="warning") for name, words in material.mixed.items()),
        ),
    )  # fmt: skip


def _table(material: Material) -> Table:
    rows = []
    for row in material.decision.table.rows:
        mark = " (reference)" if row.reference else " (baseline)" if row.baseline else ""
        rows.append(
            (
                row.candidate + mark,
                f"{row.solved} of {row.trials}" + (f" (planned {row.planned})" if row.trials < row.planned else ""),
                in_words(row.pass_rate, Unit.RATIO),
                format_bytes(row.peak_bytes),
                three_digits(row.seconds_per_solved) if row.seconds_per_solved else "-",
                three_digits(row.byte_seconds_per_solved / 2**30) if row.byte_seconds_per_solved else "-",
                "none" if not row.faults else str(row.faults),
            )
        )
    return Table(
        title="What each solved, and what it took",
        heads=(
            *("candidate", ">solved", "=pass rate (95 % interval)", ">peak memory", ">s for each solved"),
            *(">GiB x s for each solved", ">faults"),
        ),
        rows=tuple(rows),
        note="Faults are of server or rig and count against nobody.",
    )


def _differences(material: Material, confidence: float) -> pd.DataFrame:
    """Each level against its reference, with one-sided bounds at a confidence and the two-sided 95 % interval."""
    found = []
    for row in material.decision.table.rows:
        if row.against is not None:
            gap = score_interval(row.against.pairs)
            bounds = score_interval(row.against.pairs, confidence=2 * confidence - 1)
            found.append(
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
    return pd.DataFrame(found)


def _against_table(material: Material) -> Table | None:
    rows = [
        (
            row.candidate,
            row.against.reference,
            str(row.against.pairs.won),
            str(row.against.pairs.lost),
            p_words(row.against.p_adjusted),
            ", ".join(row.against.lost) or "none",
            ", ".join(row.against.won) or "none",
        )
        for row in material.decision.table.rows
        if row.against is not None
    ]
    if not rows:
        return None
    return Table(
        title="Won and lost against the reference level",
        heads=("candidate", "=against", ">only it passed", ">only the reference", ">p, Holm", "exercises lost", "won"),
        rows=tuple(rows),
    )
