"""Second question: what was wanted, and what was found?"""

from kettlefield.views.criteria_view import criteria_tables, glance_table
from kettlefield.views.material import Material
from kettlefield.views.parts import Part, Section
from kettlefield.views.table import Words, folded, present


def criteria_section(material: Material) -> Section:
    """The section."""
    intro = Words(
        text="Set before the campaign began, and held in the record since. Of an estimate the bound must clear the "
        "threshold, not the value; bounds are one-sided.",
        tone="small",
    )
    parts: tuple[Part, ...] = present(
        intro, glance_table(material.decision), *map(folded, criteria_tables(material.decision.verdicts))
    )
    if not material.decision.criteria:
        parts = (Words(text="The plan sets no criteria, so nothing can be approved.", tone="warning"),)
    return Section(anchor="criteria", title="Criteria", parts=parts)
