"""A figure with its interval and sample size, and how tables and pages write it. Loads without SciPy."""

from collections.abc import Mapping

import msgspec

from kettlefield.core.units import Scale, Unit, duration_scale, format_scaled, size_scale


class Estimate(msgspec.Struct, frozen=True, kw_only=True):
    """A figure with the interval round it; a bound that the sample cannot give is None."""

    value: float
    low: float | None
    high: float | None
    n: int  # samples the figure rests on


def not_measured_words(reasons: Mapping[str, str]) -> list[str]:
    """Exercises that a rig cannot ask, one line a reason; ``reasons`` tells it by exercise."""
    by_reason: dict[str, list[str]] = {}
    for exercise, reason in reasons.items():
        by_reason.setdefault(reason, []).append(exercise)
    return [f"not measured: {', '.join(names)} ({reason})" for reason, names in by_reason.items()]


def p_words(p: float) -> str:
    """A chance for a reader: none is ever 0."""
    return "< 0.001" if p < 0.001 else f"{p:.3f}"


def scale_of(value: float, unit: Unit) -> Scale:
    """The scale in which a value and its interval are shown."""
    if unit is Unit.SECONDS:
        return duration_scale(value)
    if unit is Unit.BYTES:
        return size_scale(value)
    return Scale(1.0, "" if unit is Unit.RATIO else unit.value)


def in_scale(value: float | None, scale: Scale) -> str:
    """A value's number in a scale; a share has two decimals; a question mark for a bound that is not known."""
    if value is None:
        return "?"
    if scale.label == Unit.COUNT.value:
        return f"{value:,.0f}"
    return format_scaled(value, scale) if scale.label else f"{value:.2f}"


def in_unit(value: float | None, unit: Unit) -> str:
    """A value in its unit for a reader; a dash for None."""
    if value is None:
        return "-"
    scale = scale_of(value, unit)
    return f"{in_scale(value, scale)} {scale.label}".rstrip()


def interval_words(figure: Estimate | float | None, unit: Unit) -> str:
    """An interval in plain words: ``27.8 to 32.1 ms``."""
    if not isinstance(figure, Estimate):
        return "-"
    scale = scale_of(figure.value, unit)
    return f"{in_scale(figure.low, scale)} to {in_scale(figure.high, scale)} {scale.label}".rstrip()


def with_interval(figure: Estimate | float | str | None, unit: Unit) -> str:
    """A figure with its interval, in one scale: ``32.5 (29.6 to 33.7) ms``."""
    if isinstance(figure, str):
        return figure
    if not isinstance(figure, Estimate):
        return in_unit(figure, unit)
    scale = scale_of(figure.value, unit)
    if figure.low is None and figure.high is None:
        return f"{in_scale(figure.value, scale)} {scale.label}".rstrip()  # so few samples bound nothing
    low, value, high = (in_scale(number, scale) for number in (figure.low, figure.value, figure.high))
    return f"{value} ({low} to {high}) {scale.label}".rstrip()


def in_words(figure: Estimate | float | str | None, unit: Unit) -> str:
    """A figure with its interval and sample size: ``32.5 (29.6 to 33.7) ms, n = 12``."""
    return with_interval(figure, unit) + (f", n = {figure.n}" if isinstance(figure, Estimate) else "")
