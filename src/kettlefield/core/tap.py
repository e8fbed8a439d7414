"""Results of an exercise's own check program, in the Test Anything Protocol, version 14.

Source
------
The TAP 14 specification: a version line, a plan, test points with optional SKIP and TODO directives,
YAML diagnostics, subtests indented by four spaces, and "Bail out!".
"""

import re
from dataclasses import dataclass

_PLAN = re.compile(r"1\.\.(\d{1,9})(?:\s*#.*)?$")
_POINT = re.compile(
    r"(?P<not>not )?ok\b(?:[ \t]+(?P<number>\d{1,9}))?(?:[ \t]*-?[ \t]*(?P<words>(?:[^#\\]|\\.)*))?(?P<directive>#.*)?$"
)
_BAIL = re.compile(r"Bail out!\s*(?P<why>.*)$", re.IGNORECASE)


@dataclass(frozen=True, slots=True, kw_only=True)
class TapPoint:
    """One test point at the top level."""

    number: int
    passed: bool  # a point marked TODO or SKIP does not fail
    words: str
    message: str = ""  # of its diagnostics


@dataclass(frozen=True, slots=True, kw_only=True)
class TapReport:
    """A whole report; ``fault`` says why it cannot be trusted."""

    points: tuple[TapPoint, ...]
    fault: str | None = None


def parse_tap(text: str) -> TapReport:
    """Read a report; it counts only when it has a plan that its points fulfil and was not bailed out of.

    Parameters
    ----------
    text : str
        What the check program printed.
    """
    points: list[TapPoint] = []
    planned: int | None = None
    lines = text.replace("\r\n", "\n").split("\n")
    if not lines[0].startswith("TAP version 1"):
        return TapReport(points=(), fault='the first line is not "TAP version 14"')
    for line in lines[1:]:
        if (bail := _BAIL.match(line)) is not None:
            return TapReport(points=tuple(points), fault=f"bailed out: {bail['why'].strip() or 'no reason given'}")
        if (plan := _PLAN.match(line)) is not None:
            if planned is not None:
                return TapReport(points=tuple(points), fault="it has two plans")
            planned = int(plan[1])
        elif (point := _POINT.match(line)) is not None:
            points.append(_point(point, len(points) + 1))
        elif points and (said := re.match(r"\s{2,}message:\s*(.*)$", line)) is not None:
            last = points[-1]
            points[-1] = TapPoint(
                number=last.number, passed=last.passed, words=last.words, message=said[1].strip("\"' ")
            )
    if planned is None:
        return TapReport(points=tuple(points), fault="it has no plan")
    if sorted(point.number for point in points) != list(range(1, planned + 1)):
        return TapReport(points=tuple(points), fault=f"{planned} points planned, {len(points)} found")
    return TapReport(points=tuple(points))


def _point(found: "re.Match[str]", following: int) -> TapPoint:
    directive = (found["directive"] or "").lstrip("# ").upper()
    return TapPoint(
        number=int(found["number"]) if found["number"] else following,
        passed=found["not"] is None or directive.startswith(("TODO", "SKIP")),
        words=re.sub(r"\\(.)", r"\1", (found["words"] or "").strip()),
    )
