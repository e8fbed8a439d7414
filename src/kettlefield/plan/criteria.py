"""The criteria of a plan: read, thresholds brought to base units, and a record evaluated against them."""

from collections.abc import Mapping, Sequence
from pathlib import Path

import msgspec
import tomli

from kettlefield.core.acceptance import Criterion, NoWorse, OneOf, Threshold
from kettlefield.core.errors import InputError
from kettlefield.core.outcome import Outcome
from kettlefield.core.plaintext import as_sentence
from kettlefield.core.renames import current_plan, new_measure
from kettlefield.core.units import Unit, parse_duration, parse_size
from kettlefield.decision.measures import MEASURES, Measure
from kettlefield.decision.provenance import conditions_of
from kettlefield.decision.verdict import Decision, reach_verdicts, recommendations
from kettlefield.marking.scale import Weights
from kettlefield.plan import tables
from kettlefield.plan.tables import check_evidence, read_weights
from kettlefield.record.store import Record
from kettlefield.results.breakdown import PROPERTIES, belongs
from kettlefield.results.comparison import compare
from kettlefield.results.frames import campaign_facts
from kettlefield.suite.typed_toml import nearest, to_struct
from kettlefield.weights.facts import check_policy

NOT_SET = "to be set"  # what draft writes for a threshold; qualify refuses it until a person has set it


def read_criteria(written: tuple[tables.CriterionTable, ...], path: Path | str) -> tuple[Criterion, ...]:
    """Check criteria and bring their thresholds to base units.

    Raises
    ------
    InputError
        A measure is unknown, or a threshold is missing, doubled or in the wrong unit.
    """
    return tuple(_criterion(entry, f"{path} [criterion {number}]") for number, entry in enumerate(written, 1))


class Terms(msgspec.Struct, frozen=True, kw_only=True):
    """What a plan demands, and the conditions that it states."""

    criteria: tuple[Criterion, ...]
    conditions: tuple[str, ...]
    budget_bytes: int | None  # memory that a candidate may take
    weights: Weights  # of marks


def terms_of_text(text: str, where: str) -> Terms:
    """The terms of a plan that is held as text, as a record holds it.

    Raises
    ------
    InputError
        The text is not a plan.
    """
    try:
        data = tomli.loads(text)
    except (tomli.TOMLDecodeError, RecursionError) as err:
        raise InputError(f"holds a plan that is not valid TOML ({err})", where, "The record was changed.") from err
    # candidates are not read here: some are known only where the files that a pattern meant lie
    written = to_struct({**current_plan(data), "candidate": []}, tables.PlanFile, where)
    # of several rigs each has a budget of its own, which is in the record with it
    budget = written.rig.memory_budget if isinstance(written.rig, tables.RigTable) else None
    criteria = read_criteria(written.criterion, where)
    check_evidence(criteria, str(where))
    return Terms(
        criteria=criteria,
        weights=read_weights(written, str(where)),
        conditions=written.conditions,
        budget_bytes=int(budget) if budget is not None else None,
    )


def _criterion(entry: tables.CriterionTable, where: str) -> Criterion:
    measure = MEASURES.get(entry.measure)
    if measure is None:
        now = new_measure(entry.measure)
        hint = f'It is called "{now}" now.' if now in MEASURES else nearest(entry.measure, list(MEASURES))
        raise InputError(f'unknown measure "{entry.measure}"', where, hint)
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
    _check_narrowing(entry, measure, where)
    side = "at_least" if entry.at_least is not None else "at_most"
    raw = entry.at_least if entry.at_least is not None else entry.at_most
    assert raw is not None  # noqa: S101 - one of them is set, see above
    try:
        value = _base_value(raw, measure.unit)
    except ValueError as err:
        raise InputError(f'{side} is "{raw}"', where, as_sentence(str(err))) from err
    return Criterion(
        measure=measure.name,
        threshold=Threshold(at_least=value) if side == "at_least" else Threshold(at_most=value),
        confidence=entry.confidence,
        wanted=f"{side.replace('_', ' ')} {raw if isinstance(raw, str) else f'{raw:g}'}",
        among=_among(entry),
        at_depth_tokens=entry.at_depth,
        at_fill=entry.at_fill,
        outcomes=entry.outcomes,
    )


def _among(entry: tables.CriterionTable) -> tuple[tuple[str, str], ...]:
    return tuple((name, str(value)) for name, value in entry.among.items())


def _check_narrowing(entry: tables.CriterionTable, measure: Measure, where: str) -> None:
    """What narrows a measure must be known, and must be able to narrow this one."""
    if entry.among and not measure.among:
        able = ", ".join(name for name, one in MEASURES.items() if one.among)
        raise InputError(f"among is not for {measure.name}", where, f"It narrows {able}.")
    unknown = next((name for name in entry.among if name not in PROPERTIES), None)
    if unknown is not None:
        raise InputError(f'among has unknown key "{unknown}"', where, nearest(unknown, list(PROPERTIES)))
    if entry.at_depth is not None and (not measure.at_depth or entry.at_depth < 1):
        able = ", ".join(name for name, one in MEASURES.items() if one.at_depth)
        hint = f"It is a number of tokens, for {able}."
        raise InputError(f"at_depth = {entry.at_depth} is not for {measure.name}", where, hint)
    if entry.at_fill is not None and (not measure.at_fill or not 0 < entry.at_fill < 1):
        able = ", ".join(name for name, one in MEASURES.items() if one.at_fill)
        hint = f"It is a share of the context between 0 and 1, for {able}."
        raise InputError(f"at_fill = {entry.at_fill} is not for {measure.name}", where, hint)
    if measure.by_outcome != bool(entry.outcomes):
        raise InputError(
            "outcomes and outcome_count go together", where, 'Write outcomes = ["over-limit"] for it, for no other.'
        )
    known = [outcome.value for outcome in Outcome]
    unknown = next((name for name in entry.outcomes if name not in known), None)
    if unknown is not None:
        raise InputError(f'there is no outcome "{unknown}"', where, nearest(unknown, known))


def check_against_plan(
    criteria: tuple[Criterion, ...], depths: frozenset[int], fills: frozenset[float], where: str
) -> None:
    """Refuse a criterion that its own plan can never decide.

    Parameters
    ----------
    criteria : tuple of Criterion
        As read.
    depths : frozenset of int
        Context depths in tokens at which any candidate is timed.
    fills : frozenset of float
        Shares of the context at which any candidate is asked.
    where : str
        The plan, for the message.

    Raises
    ------
    InputError
        A criterion names a depth that nothing is timed at, or a fill that nothing is asked at.
    """
    for number, criterion in enumerate(criteria, 1):
        depth = criterion.at_depth_tokens
        if depth is not None and depth not in depths:
            hint = f"Add {depth} to tokens in [speed.depth]."
            raise InputError(f"nothing is timed at a depth of {depth} tokens", f"{where} [criterion {number}]", hint)
        if criterion.at_fill is not None and criterion.at_fill not in fills:
            hint = f"Add {criterion.at_fill:g} to context_fill in [grading]."
            what = f"nothing is asked at a context fill of {criterion.at_fill:g}"
            raise InputError(what, f"{where} [criterion {number}]", hint)


def check_against_suite(criteria: tuple[Criterion, ...], exercises: Sequence[Mapping[str, str]], where: str) -> None:
    """Refuse a criterion about exercises that the campaign does not ask.

    Parameters
    ----------
    criteria : tuple of Criterion
        As read.
    exercises : sequence of mapping
        For each exercise its `PROPERTIES`; several topics as one text, divided by commas.
    where : str
        The plan, for the message.

    Raises
    ------
    InputError
        No exercise has the properties that a criterion names.
    """
    for number, criterion in enumerate(criteria, 1):
        if criterion.among and not any(belongs(exercise, criterion.among) for exercise in exercises):
            wanted = ", ".join(f"{name} {value}" for name, value in criterion.among)
            hint = "`kettlefield suite list` shows what is asked."
            raise InputError(f"no exercise asked is of {wanted}", f"{where} [criterion {number}]", hint)


def _check_confidence(entry: tables.CriterionTable, where: str) -> None:
    if not 0.5 < entry.confidence < 1:
        raise InputError(f"confidence is {entry.confidence}", where, "Write a number above 0.5 and below 1.")


def _no_worse_criterion(entry: tables.CriterionTable, where: str) -> Criterion:
    """Paired with the reference level, or with an empty context: what is accepted is a drop, not a value."""
    if entry.measure != "pass_rate":
        raise InputError(f"no_worse_than is not for {entry.measure}", where, "Write it for pass_rate.")
    if entry.no_worse_than is None or entry.at_least is not None or entry.at_most is not None:
        hint = 'Write no_worse_than = "reference" and margin, and a threshold as a criterion of its own.'
        raise InputError("mixes a margin with a threshold", where, hint)
    if entry.margin is None or not 0 < entry.margin < 1:
        raise InputError(f"margin is {entry.margin}", where, "Write the drop that is accepted, such as 0.05.")
    _check_confidence(entry, where)
    _check_narrowing(entry, MEASURES[entry.measure], where)
    than_empty = entry.no_worse_than == "empty context"
    if than_empty and entry.at_fill is None:
        hint = "Write at_fill, one of the shares of context_fill in [grading]."
        raise InputError("no_worse_than is the empty context, at no fill of it", where, hint)
    return Criterion(
        measure=entry.measure,
        threshold=NoWorse(margin=entry.margin, than_empty=than_empty),
        confidence=entry.confidence,
        wanted=f"at most {entry.margin:g} below {'an empty context' if than_empty else 'reference'}",
        among=_among(entry),
        at_fill=entry.at_fill,
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
    if unit is Unit.COUNT and (isinstance(raw, str) or raw != int(raw) or raw < 0):
        raise ValueError("write a whole number, such as 0")
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


def decide(record: Record, *, terms: Terms | None = None) -> Decision:
    """What a record's results say of every candidate.

    Parameters
    ----------
    record : Record
        An open record.
    terms : Terms, optional
        Other criteria and conditions than those of the plan as it stood when the campaign began.

    Raises
    ------
    InputError
        No campaign was begun in it, or its plan cannot be read.
    """
    facts = campaign_facts(record)
    begun = terms_of_text(facts["plan_text"], str(record.place))
    terms = terms or begun
    table = compare(record)
    verdicts = reach_verdicts(record, table, terms.criteria, terms.weights, as_begun=terms.criteria == begun.criteria)
    choices = recommendations(table, verdicts)
    return Decision(
        title=facts["title"],
        simulated=facts["simulated"],
        table=table,
        criteria=terms.criteria,
        budget_bytes=terms.budget_bytes,
        verdicts=verdicts,
        recommended={model: candidate for model, (candidate, _) in choices.items()},
        why_recommended={model: why for model, (_, why) in choices.items()},
        conditions=conditions_of(record, terms.conditions),
        weights=terms.weights,
    )
