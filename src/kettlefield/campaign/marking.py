"""What a plan says of marks: their weights, and the assessor that gives some of them."""

from dataclasses import dataclass
from pathlib import Path

from kettlefield.campaign import tables
from kettlefield.core.acceptance import Criterion
from kettlefield.core.errors import InputError
from kettlefield.core.marking import MOST_WEIGHT, Weights
from kettlefield.suite.format import KINDS
from kettlefield.suite.toml_struct import nearest

MARKED = "marked_score"


@dataclass(frozen=True, slots=True, kw_only=True)
class Assessor:
    """The second model, as the plan has it."""

    name: str  # model@level
    table: tables.AssessorTable
    weights: Path | None


def read_weights(written: tables.PlanFile, where: str) -> Weights:
    """The weights of marks.

    Raises
    ------
    InputError
        They are out of range, or together more than the checks.
    """
    assessor = written.assessor
    weights = Weights(
        people=written.marking.weight,
        assessor=assessor.weight if assessor is not None else 0.0,
        agreement_at_least=assessor.agreement_at_least if assessor is not None else 0.0,
    )
    for name, share in (("[marking] weight", weights.people), ("[assessor] weight", weights.assessor)):
        if not 0 <= share <= MOST_WEIGHT:
            raise InputError(f"is {share:g}", f"{where} {name}", f"Write a share from 0 to {MOST_WEIGHT:g}.")
    if weights.people + weights.assessor > MOST_WEIGHT:
        hint = f"Together at most {MOST_WEIGHT:g}: the checks stay the greater part."
        raise InputError(f"marks weigh {weights.people + weights.assessor:g} of a score", where, hint)
    if not 0 <= weights.agreement_at_least <= 1:
        raise InputError(
            f"is {weights.agreement_at_least:g}", f"{where} [assessor] agreement_at_least", "Write 0 to 1."
        )
    return weights


def read_assessor(written: tables.PlanFile, path: Path) -> Assessor | None:
    """The plan's assessor, if it has one.

    Raises
    ------
    InputError
        It cannot be asked as the plan has it.
    """
    table, where = written.assessor, f"{path} [assessor]"
    if table is None:
        return None
    if not table.server.command and table.server.url is None:
        raise InputError("names no server", f"{where} server", "Write command or url.")
    for key, number in (("rounds", table.rounds), ("pairs", table.pairs)):
        if number < (1 if key == "rounds" else 0):
            raise InputError(f"is {number}", f"{where} {key}", "Write a larger number.")
    unknown = next((kind for kind in table.kinds if kind not in KINDS), None)
    if unknown is not None:
        raise InputError(f'there is no kind "{unknown}"', f"{where} kinds", nearest(unknown, list(KINDS)))
    weights = path.resolve().parent / table.weights if table.weights else None
    if weights is not None and not weights.exists():
        raise InputError("there is no such file", f"{where} weights", f"Looked for {weights}.")
    if any(entry.model == table.model for entry in written.candidate):
        raise InputError(
            f"{table.model} is a candidate too", where, "Nobody marks its own replies: name another model."
        )
    return Assessor(name=f"{table.model}@{table.level}", table=table, weights=weights)


def check_evidence(criteria: tuple[Criterion, ...], where: str) -> None:
    """Refuse criteria that rest on marks alone.

    Raises
    ------
    InputError
        All that a plan asks of answers is that they are marked well.
    """
    names = {criterion.measure for criterion in criteria}
    if MARKED in names and "pass_rate" not in names:
        hint = "Add one on pass_rate: marks are never the only evidence for an approval."
        raise InputError(f"has a criterion on {MARKED} and none on what the checks find", f"{where} [criterion]", hint)
