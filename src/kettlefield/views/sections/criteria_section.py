"""Second question: what was wanted, and what was found?"""

from kettlefield.core.measures import MEASURES
from kettlefield.core.statistics.estimate import in_words
from kettlefield.decision.verdict import CandidateVerdict
from kettlefield.views.material import Material
from kettlefield.views.parts import Cell, Part, Section, Table, Words


def section(material: Material) -> Section:
    """The section: one table a candidate."""
    parts: list[Part] = [
        Words(
            text="Set before the campaign began, and held in the record since. Of an estimate the bound must clear the "
            "threshold, not the value; bounds are one-sided.",
            tone="small",
        )
    ]
    parts += [_overview(material), *(_table(one) for one in material.decision.verdicts if one.judgements)]
    if not material.decision.criteria:
        parts = [Words(text="The plan sets no criteria, so nothing can be approved.", tone="warning")]
    return Section(anchor="criteria", title="Criteria", parts=tuple(parts))


def _overview(material: Material) -> Table:
    """Every candidate in a row, every criterion in a column."""
    criteria = material.decision.criteria
    return Table(
        title="All criteria at a glance",
        heads=("candidate", *(f"{one.label} {one.wanted}" for one in criteria)),
        rows=tuple(
            (one.candidate, *(Cell(text=judged.status.value, status=judged.status.value) for judged in one.judgements))
            for one in material.decision.verdicts
        ),
    )


def _table(verdict: CandidateVerdict) -> Table:
    return Table(
        title=f"{verdict.candidate}: {verdict.verdict.value}",
        folded=True,
        heads=("measure", "=wanted", "=found", "=status", "what would settle it"),
        rows=tuple(
            (
                one.criterion.label,
                one.criterion.wanted,
                in_words(one.found, MEASURES[one.criterion.measure].unit),
                Cell(text=one.status.value, status=one.status.value),
                one.reason,
            )
            for one in verdict.judgements
        ),
    )
