"""Criteria: a threshold and a figure in, met / not met / undecided out; from these the verdict."""

from collections.abc import Sequence
from enum import StrEnum

import msgspec

from kettlefield.core.statistics.estimate import Estimate


class Status(StrEnum):
    """What a criterion says of a candidate."""

    MET = "met"
    NOT_MET = "not met"
    UNDECIDED = "undecided"


class Verdict(StrEnum):
    """What all criteria together say of a candidate."""

    APPROVED = "approved"
    REJECTED = "rejected"
    UNDECIDED = "undecided"


class Threshold(msgspec.Struct, frozen=True, kw_only=True):
    """The side on which the figure must lie; exactly one of the two is set, in the figure's base unit."""

    at_least: float | None = None
    at_most: float | None = None

    def __post_init__(self) -> None:
        if (self.at_least is None) == (self.at_most is None):
            raise ValueError("wanted exactly one of at_least and at_most")


class NoWorse(msgspec.Struct, frozen=True, kw_only=True):
    """No worse than the reference level by more than a margin, on the same exercises."""

    margin: float  # accepted drop, in the measure's unit; above 0
    than_empty: bool = False  # compared not with the reference level but with itself, the context empty


class OneOf(msgspec.Struct, frozen=True, kw_only=True):
    """A closed list that the found text must be in; whoever finds it says whether it is."""

    names: tuple[str, ...]


class Criterion(msgspec.Struct, frozen=True, kw_only=True):
    """One criterion of a plan, its threshold in the measure's base unit."""

    measure: str
    threshold: Threshold | OneOf | NoWorse
    confidence: float  # one-sided: the bound that must clear the threshold holds with this probability
    wanted: str  # as the plan writes it, for the reader
    among: tuple[tuple[str, str], ...] = ()  # only exercises of which all of these hold: (property, value)
    at_depth_tokens: int | None = None  # a speed at this depth of context, not over the grid
    at_fill: float | None = None  # of what was asked with this share of the context taken; none: the exercise alone
    outcomes: tuple[str, ...] = ()  # what an outcome count counts

    @property
    def label(self) -> str:
        """The measure with what narrows it, for the reader."""
        narrowed = [*(f"{name} {value}" for name, value in self.among), *self.outcomes]
        if self.at_depth_tokens is not None:
            narrowed.append(f"{self.at_depth_tokens:,} tokens deep")
        if self.at_fill is not None:
            narrowed.append(f"context {self.at_fill:.0%} full")
        return self.measure + (f" ({', '.join(narrowed)})" if narrowed else "")


def judge(threshold: Threshold, figure: Estimate | float | None) -> Status:
    """Hold a figure against a threshold.

    Parameters
    ----------
    threshold : Threshold
        In the figure's unit.
    figure : Estimate, float or None
        For an estimate the bound must clear the threshold, not the value: met when all of the interval
        lies on the wanted side, not met when all of it lies on the other, else undecided. A plain number
        is a direct measurement and is held as it is. None was not measured: undecided.
    """
    if figure is None:
        return Status.UNDECIDED
    low, high = (figure.low, figure.high) if isinstance(figure, Estimate) else (figure, figure)
    if threshold.at_least is not None:
        if low is not None and low >= threshold.at_least:
            return Status.MET
        return Status.NOT_MET if high is not None and high < threshold.at_least else Status.UNDECIDED
    assert threshold.at_most is not None  # noqa: S101 - __post_init__ holds it
    if high is not None and high <= threshold.at_most:
        return Status.MET
    return Status.NOT_MET if low is not None and low > threshold.at_most else Status.UNDECIDED


def judge_membership(allowed: bool | None) -> Status:
    """Met when a policy allows what was found, not met when it does not, undecided when that is not known."""
    if allowed is None:
        return Status.UNDECIDED
    return Status.MET if allowed else Status.NOT_MET


def reach_verdict(statuses: Sequence[Status]) -> Verdict:
    """Rejected if any criterion is not met, else undecided if any is, else approved.

    Without any criterion nothing was asked, so nothing is approved: undecided.
    """
    if Status.NOT_MET in statuses:
        return Verdict.REJECTED
    if not statuses or Status.UNDECIDED in statuses:
        return Verdict.UNDECIDED
    return Verdict.APPROVED
