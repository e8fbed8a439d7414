"""A figure with its interval and sample size; apart from the arithmetic, so that it loads without SciPy."""

from dataclasses import dataclass


@dataclass(frozen=True, slots=True, kw_only=True)
class Estimate:
    """A figure with the interval round it; a bound that the sample cannot give is None."""

    value: float
    low: float | None
    high: float | None
    n: int  # samples the figure rests on
