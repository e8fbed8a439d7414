"""Checks of pages as exercises write them: their tables, the steps that are done, what must show then."""

import re
from collections.abc import Iterable
from pathlib import Path
from typing import Any, Literal

import msgspec

from kettlefield.core.errors import InputError
from kettlefield.core.page_expectations import Wish
from kettlefield.suite.check_form import TextReader
from kettlefield.suite.format import Check, Exercise, Part
from kettlefield.suite.typed_toml import parse_json


class Target(Part, frozen=True, kw_only=True, omit_defaults=True):
    """An element, by what a user or a screen reader knows it by, or by a selector."""

    role: str | None = None  # with ``name``, if given
    name: str | None = None
    label: str | None = None  # of a form's field
    text: str | None = None  # all that it says
    css: str | None = None
    within: str | None = None  # a selector: looked for below it
    nth: int | None = None  # which of several, from 1

    def describe(self) -> str:
        """The element in words."""
        name = f' "{self.name}"' if self.name else ""
        what = (
            f"{self.role}{name}"
            if self.role
            else f'field "{self.label}"'
            if self.label
            else f'text "{self.text}"'
            if self.text
            else self.css or "page"
        )
        return what + (f" number {self.nth}" if self.nth else "") + (f" in {self.within}" if self.within else "")


class Click(Part, frozen=True, kw_only=True, tag_field="do", tag="click"):
    """A press of the pointer."""

    on: Target

    def describe(self) -> str:
        """The step in words."""
        return f"click {self.on.describe()}"


class Type(Part, frozen=True, kw_only=True, tag_field="do", tag="type"):
    """A field's text set as by typing."""

    into: Target
    text: str

    def describe(self) -> str:
        """The step in words."""
        return f'type "{self.text}" into {self.into.describe()}'


class Choose(Part, frozen=True, kw_only=True, tag_field="do", tag="choose"):
    """An option of a list, by its words."""

    of: Target
    option: str

    def describe(self) -> str:
        """The step in words."""
        return f'choose "{self.option}" of {self.of.describe()}'


class Press(Part, frozen=True, kw_only=True, tag_field="do", tag="press"):
    """A key, at the element that has the focus or at one that gets it first."""

    key: str  # as KeyboardEvent.key has it; "Shift+Tab"
    at: Target | None = None

    def describe(self) -> str:
        """The step in words."""
        return f"press {self.key}" + (f" at {self.at.describe()}" if self.at else "")


class Drag(Part, frozen=True, kw_only=True, tag_field="do", tag="drag"):
    """An element dragged onto another."""

    what: Target
    to: Target

    def describe(self) -> str:
        """The step in words."""
        return f"drag {self.what.describe()} to {self.to.describe()}"


class Wait(Part, frozen=True, kw_only=True, tag_field="do", tag="wait"):
    """Time passes, for what the prompt lets take time."""

    seconds: float

    def describe(self) -> str:
        """The step in words."""
        return f"wait {self.seconds:g} s"


_OfAll = Literal["count", "visible", "texts"]
_OfOne = Literal[
    "text", "before", "value", "checked", "enabled", "focused", "attribute", "style", "width", "height", "inside"
]
Quantity = Literal[_OfAll, _OfOne, "colour"]


class Expect(Part, frozen=True, kw_only=True, tag_field="do", tag="expect"):
    """What an element must show now."""

    what: Quantity
    of: Target
    called: str | None = msgspec.field(name="property", default=None)  # which, of "attribute" and "style"
    at: tuple[float, float] | None = None  # of "colour": where in the element, in shares of its width and height
    reach: float = 0.02  # how far around that place, as a share of the width
    equals: Any = None
    holds: str | None = None
    lacks: str | None = None
    pattern: str | None = None
    at_least: float | None = None
    at_most: float | None = None

    @property
    def wish(self) -> Wish:
        """What is wanted of the quantity."""
        return Wish(
            equals=self.equals,
            holds=self.holds,
            lacks=self.lacks,
            pattern=self.pattern,
            at_least=self.at_least,
            at_most=self.at_most,
        )

    def describe(self) -> str:
        """The step in words, without what is expected."""
        of = f"{self.what} {self.called}" if self.called else self.what
        return f"the {of} of {self.of.describe()}"


Step = Click | Type | Choose | Press | Drag | Wait | Expect


def step_fault(step: Step) -> str:
    """What a step says that cannot be; empty when it can."""
    targets = [getattr(step, name) for name in ("on", "into", "of", "at", "what", "to") if hasattr(step, name)]
    for target in targets:
        if isinstance(target, Target):
            ways = [target.role, target.label, target.text, target.css]
            if sum(way is not None for way in ways) != 1:
                return "an element is named by one of role, label, text and css"
    if isinstance(step, Expect):
        wishes = (step.equals, step.holds, step.lacks, step.pattern, step.at_least, step.at_most)
        if all(wish is None for wish in wishes):
            return "it expects nothing: write equals, holds, lacks, pattern, at_least or at_most"
        if (step.what in {"attribute", "style"}) != (step.called is not None):
            return f'"property" belongs to attribute and style, not to {step.what}'
        if (step.what == "colour") != (step.at is not None):
            return '"at" belongs to colour'
    return ""


Width = Literal["phone", "desktop"] | int  # or any number of px
WIDTHS: dict[Width, tuple[int, int]] = {"phone": (390, 844), "desktop": (1280, 800)}  # width and height in px
_HEIGHT_PX = 800  # of a window that is named by its width alone


def size_of(width: Width) -> tuple[int, int]:
    """Width and height of the window, in px."""
    return (width, _HEIGHT_PX) if isinstance(width, int) else WIDTHS[width]


Rule = Literal["language", "names", "contrast", "keyboard", "fits"]


class PageCheck(Check, frozen=True, kw_only=True, tag_field="kind", tag="page"):
    """A page opened in a browser: steps, and what it must show after them; it makes no error meanwhile."""

    steps: str  # file beside exercise.toml: [{"do": "click", "on": {...}}, {"do": "expect", ...}]
    widths: tuple[Width, ...] = ("phone", "desktop")
    dialogs: bool = False  # it may open them; they are dismissed


class PageRulesCheck(Check, frozen=True, kw_only=True, tag_field="kind", tag="page-rules"):
    """Simple rules of an accessible page, at both widths."""

    rules: tuple[Rule, ...] = ("language", "names", "contrast", "keyboard", "fits")


# a width at which a page changes its shape: "below 700 pixels", "of 700 pixels and more"
_BREAKPOINT = re.compile(
    r"\b(?:below|under|up to|from|above) (\d{3,4}) ?(?:px|pixels)\b|\b(\d{3,4}) ?(?:px|pixels) (?:and|or) "
    r"(?:more|less|wider|narrower|above|below)\b",
    re.IGNORECASE,
)
_SELECTED = re.compile(r"[#.\[]([a-zA-Z][\w-]*)")  # ids, classes and attributes of a selector


def read_steps(check: PageCheck, folder: Path, read: TextReader) -> tuple[Step, ...]:
    """The steps of a check, read from the file that it names.

    Raises
    ------
    InputError
        It holds no such steps; the message names the step.
    """
    path = folder / check.steps
    data = parse_json(read.text(path), path)
    if not isinstance(data, list) or not any(isinstance(e, dict) and e.get("do") == "expect" for e in data):
        raise InputError("holds no list of steps that expects something", str(path), 'Write [{"do": "expect", ...}].')
    steps: list[Step] = []
    for number, entry in enumerate(data, 1):
        try:
            steps.append(msgspec.convert(entry, Step))
            fault = step_fault(steps[-1])
        except msgspec.ValidationError as err:
            fault = str(err)
        if fault:
            raise InputError(f"step {number}: {fault}", str(path), "See docs/reference for the steps.")
    return tuple(steps)


def untried_breakpoints(exercise: Exercise, said: str) -> Iterable[str]:
    """Widths at which the prompt lets the page change, and at both sides of which no check looks."""
    tried = {size_of(w)[0] for check in exercise.checks if isinstance(check, PageCheck) for w in check.widths}
    for match in {next(filter(None, groups)) for groups in _BREAKPOINT.findall(" ".join(said.split()))}:
        missing = {int(match) - 1, int(match), int(match) + 1} - tried
        # "below 700" changes between 699 and 700, "up to 700" between 700 and 701
        if int(match) in missing or len(missing) > 1:
            yield f"the prompt has a breakpoint at {match} px; no check opens the page at it and right beside it"


def unsaid_targets(exercise: Exercise, check: PageCheck, said: str) -> Iterable[str]:
    """Elements and options that a check looks for by words which the prompt never says."""
    steps: tuple[Step, ...] = exercise.cases[check.name]
    plain, words = " ".join(said.split()).lower(), set(re.findall(r"[\w-]+", said))
    targets = [
        part for step in steps for name in step.__struct_fields__ if isinstance(part := getattr(step, name), Target)
    ]
    wanted = {called for t in targets for called in (t.name, t.label, t.text) if called}
    wanted |= {step.option for step in steps if isinstance(step, Choose)}
    missing = {called for called in wanted if " ".join(called.split()).lower() not in plain}
    selectors = " ".join(part for t in targets for part in (t.css, t.within) if part)
    missing |= {name for name in _SELECTED.findall(selectors) if name not in words}
    if missing:
        yield f"the prompt never says: {', '.join(sorted(missing)[:6])}"
