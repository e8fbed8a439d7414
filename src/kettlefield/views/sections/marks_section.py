"""Marks by people and by a judge, apart from the checks: how far to trust them, then what they say."""

from kettlefield.views.marks_view import marks_parts
from kettlefield.views.material import Material
from kettlefield.views.parts import Section


def marks_section(material: Material) -> Section | None:
    """The section; none when nobody marked anything."""
    marking = material.marking
    if marking.is_empty:
        return None
    return Section(anchor="marks", title="Marks", parts=marks_parts(marking, marking.candidates))
