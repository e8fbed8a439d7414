"""Marks by people and by a judge, apart from the checks: how far to trust them, then what they say."""

from kettlefield.views.marks_tables import (
    AGREEMENT_HEADS,
    CANDIDATE_HEADS,
    TRUST_HEADS,
    agreement_cells,
    candidate_cells,
    marks_note,
    trust_cells,
)
from kettlefield.views.material import Material
from kettlefield.views.parts import Section, Table, Words, present


def section(material: Material) -> Section | None:
    """The section; none when nobody marked anything."""
    marking = material.marking
    if marking.is_empty:
        return None
    unused = tuple(f"{judge}: shown and not used: {why}" for judge, why in marking.unused.items())
    return Section(
        anchor="marks",
        title="Marks",
        parts=present(
            Words(text="A judge's marks do not count:", items=unused, tone="warning") if unused else None,
            Table(
                title="The judge, before it is believed",
                heads=TRUST_HEADS,
                rows=tuple(map(trust_cells, marking.trusts)),
            )
            if marking.trusts
            else None,
            Table(
                title="Agreement of people", heads=AGREEMENT_HEADS, rows=tuple(map(agreement_cells, marking.agreements))
            )
            if marking.agreements
            else None,
            Table(
                title="Marks beside checks",
                heads=CANDIDATE_HEADS,
                rows=tuple(map(candidate_cells, marking.candidates)),
                note=marks_note(marking),
            ),
        ),
    )
