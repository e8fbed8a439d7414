"""Steps of a ``page`` check: what is done to a page, and what it must show then."""

from typing import Any, Literal

import msgspec

from kettlefield.core.page_expectations import Wish


class _Part(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """What all parts share: no key goes unread."""


class Target(_Part, frozen=True, kw_only=True, omit_defaults=True):
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


class Click(_Part, frozen=True, kw_only=True, tag_field="do", tag="click"):
    """A press of the pointer."""

    on: Target

    def describe(self) -> str:
        """The step in words."""
        return f"click {self.on.describe()}"


class Type(_Part, frozen=True, kw_only=True, tag_field="do", tag="type"):
    """A field's text set as by typing."""

    into: Target
    text: str

    def describe(self) -> str:
        """The step in words."""
        return f'type "{self.text}" into {self.into.describe()}'


class Choose(_Part, frozen=True, kw_only=True, tag_field="do", tag="choose"):
    """An option of a list, by its words."""

    of: Target
    option: str

    def describe(self) -> str:
        """The step in words."""
        return f'choose "{self.option}" of {self.of.describe()}'


class Press(_Part, frozen=True, kw_only=True, tag_field="do", tag="press"):
    """A key, at the element that has the focus or at one that gets it first."""

    key: str  # as KeyboardEvent.key has it; "Shift+Tab"
    at: Target | None = None

    def describe(self) -> str:
        """The step in words."""
        return f"press {self.key}" + (f" at {self.at.describe()}" if self.at else "")


class Drag(_Part, frozen=True, kw_only=True, tag_field="do", tag="drag"):
    """An element dragged onto another."""

    what: Target
    to: Target

    def describe(self) -> str:
        """The step in words."""
        return f"drag {self.what.describe()} to {self.to.describe()}"


class Wait(_Part, frozen=True, kw_only=True, tag_field="do", tag="wait"):
    """Time passes, for what the prompt lets take time."""

    seconds: float

    def describe(self) -> str:
        """The step in words."""
        return f"wait {self.seconds:g} s"


_OfAll = Literal["count", "visible", "texts"]
_OfOne = Literal["text", "value", "checked", "enabled", "focused", "attribute", "style", "width", "height", "inside"]
Quantity = Literal[_OfAll, _OfOne, "colour"]


class Expect(_Part, frozen=True, kw_only=True, tag_field="do", tag="expect"):
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
