"""The criteria of a plan: checked, their thresholds brought to base units."""

import tomllib
from pathlib import Path

from kettlefield.campaign import tables
from kettlefield.core.acceptance import Criterion, NoWorse, OneOf, Threshold
from kettlefield.core.errors import InputError
from kettlefield.core.measures import MEASURES, Unit
from kettlefield.core.units import parse_duration, parse_size
from kettlefield.suite.toml_struct import nearest, to_struct
from kettlefield.weights.licence import check_policy

NOT_SET = "to be set"  # what draft writes for a threshold; qualify refuses it until a person has set it


def read_criteria(written: tuple[tables.CriterionTable, ...], path: Path) -> tuple[Criterion, ...]:
    """Check criteria and bring their thresholds to base units.

    Raises
    ------
    InputError
        A measure is unknown, or a threshold is missing, doubled or in the wrong unit.
    """
    return tuple(_criterion(entry, f"{path} [criterion {number}]") for number, entry in enumerate(written, 1))


def criteria_of_text(text: str, where: Path) -> tuple[Criterion, ...]:
    """The criteria of a plan that is held as text, as a record holds it.

    Raises
    ------
    InputError
        The text is no plan.
    """
    try:
        data = tomllib.loads(text)
    except tomllib.TOMLDecodeError as err:
        raise InputError(f"holds a plan that is not valid TOML ({err})", str(where), "The record was changed.") from err
    return read_criteria(to_struct(data, tables.PlanFile, where).criterion, where)


def _criterion(entry: tables.CriterionTable, where: str) -> Criterion:
    measure = MEASURES.get(entry.measure)
    if measure is None:
        raise InputError(f'unknown measure "{entry.measure}"', where, nearest(entry.measure, list(MEASURES)))
    if NOT_SET in (entry.at_least, entry.at_most):
        raise InputError(
            f"{entry.measure} is not set yet",
            where,
            "A person sets the criteria before the campaign: write a threshold.",
        )
    if measure.unit is Unit.LICENCE:
        return _licence_criterion(entry, where)
    if entry.no_worse_than is not None or entry.margin is not None:
        return _no_worse_criterion(entry, where)
    if (entry.at_least is None) == (entry.at_most is None) or entry.one_of:
        raise InputError("wants exactly one of at_least and at_most", where, "Set one threshold.")
    _check_confidence(entry, where)
    side = "at_least" if entry.at_least is not None else "at_most"
    raw = entry.at_least if entry.at_least is not None else entry.at_most
    assert raw is not None  # noqa: S101 - one of them is set, see above
    try:
        value = _base_value(raw, measure.unit)
    except ValueError as err:
        raise InputError(f'{side} is "{raw}"', where, f"{str(err).capitalize()}.") from err
    return Criterion(
        measure=measure.name,
        threshold=Threshold(at_least=value) if side == "at_least" else Threshold(at_most=value),
        confidence=entry.confidence,
        wanted=f"{side.replace('_', ' ')} {raw}",
    )


def _check_confidence(entry: tables.CriterionTable, where: str) -> None:
    if not 0.5 < entry.confidence < 1:
        raise InputError(f"confidence is {entry.confidence}", where, "Write a number above 0.5 and below 1.")


def _no_worse_criterion(entry: tables.CriterionTable, where: str) -> Criterion:
    """Paired with the reference level: what is accepted is a drop, not a value."""
    if entry.measure != "pass_rate":
        raise InputError(f"no_worse_than is not for {entry.measure}", where, "Write it for pass_rate.")
    if entry.no_worse_than is None or entry.at_least is not None or entry.at_most is not None:
        hint = 'Write no_worse_than = "reference" and margin, and a threshold as a criterion of its own.'
        raise InputError("mixes a margin with a threshold", where, hint)
    if entry.margin is None or not 0 < entry.margin < 1:
        raise InputError(f"margin is {entry.margin}", where, "Write the drop that is accepted, such as 0.05.")
    _check_confidence(entry, where)
    return Criterion(
        measure=entry.measure,
        threshold=NoWorse(margin=entry.margin),
        confidence=entry.confidence,
        wanted=f"at most {entry.margin:g} below reference",
    )


def _licence_criterion(entry: tables.CriterionTable, where: str) -> Criterion:
    if not entry.one_of or entry.at_least is not None or entry.at_most is not None:
        raise InputError("wants one_of", where, 'Write the licences that are allowed: one_of = ["MIT"].')
    check_policy(entry.one_of)
    return Criterion(
        measure=entry.measure,
        threshold=OneOf(names=entry.one_of),
        confidence=entry.confidence,
        wanted=f"one of {', '.join(entry.one_of)}",
    )


def _base_value(raw: float | str, unit: Unit) -> float:
    if unit in {Unit.SECONDS, Unit.BYTES}:
        if not isinstance(raw, str):
            raise ValueError(
                "has no unit; write text with one, such as " + ('"300 ms"' if unit is Unit.SECONDS else '"12 GiB"')
            )
        return parse_duration(raw) if unit is Unit.SECONDS else parse_size(raw)
    if isinstance(raw, str):
        number, _, written = raw.partition(" ")
        if written.strip() != unit.value or unit is Unit.RATIO:
            raise ValueError(f"write a number{'' if unit is Unit.RATIO else f' or text such as 40 {unit.value}'}")
        raw = float(number)
    if unit is Unit.RATIO and not 0 <= raw <= 1:
        raise ValueError("write a share from 0 to 1")
    return float(raw)
