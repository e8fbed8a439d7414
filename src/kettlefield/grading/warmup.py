"""A first run in every language before anything is graded.

It brings compilers and runtimes into the page cache, so that the first answer is not the slow one; and it
tells a rig that cannot run the suite's own answers before hours are spent on it.
"""

from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor

from kettlefield.core.errors import RigError
from kettlefield.core.languages import TEXT
from kettlefield.core.outcome import Outcome
from kettlefield.grading.grader import grade_files
from kettlefield.sandbox.isolation import Isolation
from kettlefield.suite.format import Exercise

# checks of cost take seconds by design, and say nothing more of a toolchain
_SLOW_KINDS = frozenset({"speed"})


def warm_up(exercises: Sequence[Exercise], isolation: Isolation, *, workers: int) -> None:
    """Grade one own answer a language.

    Parameters
    ----------
    exercises : sequence of Exercise
        With their variants settled.
    isolation : Isolation
        Where answers run.
    workers : int
        Languages tried at once, at least 1.

    Raises
    ------
    RigError
        An own answer does not pass here.
    """
    first: dict[str, Exercise] = {}
    for exercise in exercises:
        if exercise.spec.language != TEXT and exercise.spec.kind not in _SLOW_KINDS:
            first.setdefault(exercise.spec.language, exercise)
    with ThreadPoolExecutor(workers) as pool:
        list(pool.map(lambda exercise: _try(exercise, isolation), first.values()))


def _try(exercise: Exercise, isolation: Isolation) -> None:
    grade = grade_files(exercise, exercise.answer, isolation)
    if grade.outcome is Outcome.PASSED:
        return
    why = grade.fault or next((check.detail for check in grade.checks if not check.passed), "")
    raise RigError(
        f"the suite's own answer in {exercise.spec.language} ends {grade.outcome} here ({why})",
        exercise.id,
        "Run `kettlefield vet` on the suite; what is missing is named there and by `kettlefield rig`.",
    )
