"""What a campaign asks: the exercises of one suite, or of several with their weights."""

import os
from collections.abc import Callable, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import msgspec

from kettlefield.core.errors import InputError
from kettlefield.core.extraction.syntax import ANY
from kettlefield.grading.checks.all_checks import CHECKS
from kettlefield.grading.grader import Grader
from kettlefield.grading.vetting import missing_here, settle
from kettlefield.languages.all_languages import LANGUAGES
from kettlefield.plan.plan import Plan
from kettlefield.plan.tables import SuiteTable
from kettlefield.suite.format import Exercise, Suite
from kettlefield.suite.loader import combine, find_suite, load_suite


class Share(msgspec.Struct, frozen=True, kw_only=True):
    """One suite's part in a campaign."""

    name: str
    seed: int
    label: str  # with what sets its results apart: its seed, its selection
    weight: float  # of its pass rate in the candidate's, beside those of the others
    exercises: tuple[Exercise, ...]


class Asked(msgspec.Struct, frozen=True, kw_only=True):
    """Every exercise that is asked; no two of them share an id."""

    shares: tuple[Share, ...]
    digest: str  # over every suite with its seed
    label: str
    not_measured: Mapping[str, str] = msgspec.field(
        default_factory=dict
    )  # exercise -> why it cannot be asked on this rig

    @property
    def exercises(self) -> tuple[Exercise, ...]:
        """The exercises of all suites that can be asked here, in the plan's order."""
        return tuple(e for share in self.shares for e in share.exercises if e.id not in self.not_measured)

    @property
    def languages(self) -> set[str]:
        """Those that grading may run; where the language is the model's to choose, all."""
        wanted = {exercise.spec.language for exercise in self.exercises}
        return wanted & set(LANGUAGES) | (set(LANGUAGES.programs) if ANY in wanted else set())

    @property
    def packages(self) -> set[str]:
        """Those that exercises grant."""
        return {name for exercise in self.exercises for name in exercise.spec.packages}

    def settled(self, grader: Grader) -> "Asked":
        """With the expectations of variants worked out, of those that can be asked here.

        Raises
        ------
        InputError
            An own answer fails on its variant.
        RigError
            A toolchain or package is missing.
        """
        with ThreadPoolExecutor(os.cpu_count() or 1) as pool:
            settle_one: Callable[[Exercise], Exercise] = lambda exercise: (  # noqa: E731
                exercise if exercise.id in self.not_measured else settle(exercise, grader)
            )
            shares = tuple(
                msgspec.structs.replace(s, exercises=tuple(pool.map(settle_one, s.exercises))) for s in self.shares
            )
        return msgspec.structs.replace(self, shares=shares)


def read_asked(plan: Plan) -> Asked:
    """Load the plan's suites. Of several, each exercise's id is led by its suite's: ``berthdesk:3/fog-index``.

    Raises
    ------
    InputError
        A suite is missing or at fault, or two share a name and a seed.
    """
    return asked_of(plan.suites, plan.folder, f"{plan.path} [suite]")


def asked_of(chosen: Sequence[SuiteTable], beside: Path, where: str) -> Asked:
    """Load some suites, as a plan names them, with what of them can be asked on this machine.

    Parameters
    ----------
    chosen : sequence of SuiteTable
        Each with its seed and selection.
    beside : Path
        The folder in which they are looked for; built-in ones are found everywhere.
    where : str
        What names them, for whoever reads of a fault.

    Raises
    ------
    InputError
        As for ``read_asked``.
    """
    asked = _put_together(chosen, beside, where)
    lacking = {exercise.id: missing_here(exercise) for exercise in asked.exercises}
    asked = msgspec.structs.replace(asked, not_measured={name: why for name, why in lacking.items() if why})
    if not asked.exercises:
        first = next(iter(asked.not_measured.values()))
        what = f"no exercise of {asked.label} can be asked on this rig: {first}"
        raise InputError(what, where, "Install what is missing; `kettlefield rig` names it.")
    return asked


def _put_together(tables: Sequence[SuiteTable], beside: Path, where: str) -> Asked:
    suites = [_load(chosen, beside) for chosen in tables]
    if len(suites) == 1:
        (suite,) = suites
        share = Share(name=suite.name, seed=suite.seed, label=suite.label, weight=1.0, exercises=suite.exercises)
        return Asked(shares=(share,), digest=suite.digest, label=suite.label)
    names = [suite.name + (f":{suite.seed}" if suite.seed else "") for suite in suites]
    double = next((name for name in names if names.count(name) > 1), None)
    if double is not None:
        hint = "Give one of them another seed, or rename its folder."
        raise InputError(f"two suites are called {double}", where, hint)
    shares = tuple(
        Share(
            name=suite.name,
            seed=suite.seed,
            label=suite.label,
            weight=chosen.weight,
            exercises=tuple(msgspec.structs.replace(e, id=f"{name}/{e.id}") for e in suite.exercises),
        )
        for name, suite, chosen in zip(names, suites, tables, strict=True)
    )
    return Asked(
        shares=shares,
        digest=combine({name: suite.digest for name, suite in zip(names, suites, strict=True)}),
        label=" + ".join(suite.label for suite in suites),
    )


def _load(chosen: SuiteTable, beside: Path) -> Suite:
    return load_suite(CHECKS, find_suite(chosen.name, beside), seed=chosen.seed, selection=chosen.selection)
