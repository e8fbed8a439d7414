"""Third question: which level is worth its memory?"""

import dataclasses

import pandas as pd

from kettlefield.core.acceptance import NoWorse
from kettlefield.core.statistics.paired import score_interval
from kettlefield.results.comparison import ends_of_scale, on_frontier
from kettlefield.views.comparison_view import discordant_table, paired_table, solved_table
from kettlefield.views.figures.level_charts import agreement, differences, solved_against_memory
from kettlefield.views.material import Material
from kettlefield.views.parts import Section, drawn
from kettlefield.views.replies_view import replies_table, temperature_words
from kettlefield.views.table import Words, folded, present


def levels_section(material: Material) -> Section:
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
    return Section(
        anchor="levels",
        title="Levels side by side",
        parts=present(
            solved_table(rows),
            drawn(
                solved_against_memory(
                    solved, budget_bytes=material.decision.budget_bytes, trials=max((r.trials for r in rows), default=0)
                )
            ) if len(solved) else None,
            drawn(differences(against, margin=margin, confidence=confidence)),
            paired_table(rows),
            discordant_table(rows),
            drawn(agreement(replies)),
            folded(replies_table(material.replies)),
            temperature_words(material.replies),
            *(Words(text=f"{line}.", tone="warning") for line in ends_of_scale(rows)),
            *(Words(text=f"{name}: {words}.", tone="warning") for name, words in material.mixed.items()),
        ),
    )  # fmt: skip


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
