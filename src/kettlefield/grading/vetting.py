"""Trust the instruments: a suite's own answers must pass and its decoys must end as they declare."""

from collections.abc import Callable, Iterable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

from kettlefield.core.languages import ANY, TEXT, language_of_suffix
from kettlefield.core.outcome import Outcome
from kettlefield.core.plaintext import shorten
from kettlefield.grading.grader import Grade, grade_files
from kettlefield.rig.packages import find_packages
from kettlefield.rig.toolchains import Missing, find_toolchain
from kettlefield.sandbox.isolation import Isolation
from kettlefield.suite.format import Exercise, Suite

MIN_DECOYS = 2
MIN_BY_HAND = 3  # cases worked by hand from the prompt: an answer that is itself wrong must not vet clean


@dataclass(frozen=True, slots=True, kw_only=True)
class Vetted:
    """What vetting found of one exercise; no fault means that its checks can be trusted."""

    exercise: Exercise
    faults: tuple[str, ...]
    not_vetted: str = ""  # why it could not be vetted here, for want of a toolchain


def vet_suite(
    suite: Suite, isolation: Isolation, *, workers: int, on_done: Callable[[Vetted], None] = lambda _: None
) -> tuple[Vetted, ...]:
    """Vet every exercise of a suite.

    Parameters
    ----------
    suite : Suite
        As loaded.
    isolation : Isolation
        Where answers and decoys run.
    workers : int
        Exercises vetted at once, at least 1.
    on_done : callable
        Told of each exercise as it is finished.
    """

    def vet(exercise: Exercise) -> Vetted:
        vetted = vet_exercise(exercise, isolation)
        on_done(vetted)
        return vetted

    with ThreadPoolExecutor(workers) as pool:
        return tuple(pool.map(vet, suite.exercises))


def vet_exercise(exercise: Exercise, isolation: Isolation) -> Vetted:
    """Vet one exercise: what can be seen without running it, then its answer, then its decoys."""
    missing = missing_here(exercise)
    if missing:
        return Vetted(exercise=exercise, faults=(), not_vetted=missing)
    faults = [*_paper_faults(exercise), *_answer_faults(exercise, isolation)]
    for decoy in exercise.spec.decoy:
        grade = grade_files(exercise, exercise.decoys[decoy.name], isolation, turn=decoy.turn)
        if grade.outcome is not decoy.outcome:
            faults.append(f'decoy "{decoy.name}" ends {grade.outcome}, declared {decoy.outcome}{_why(grade)}')
    return Vetted(exercise=exercise, faults=tuple(faults))


def _paper_faults(exercise: Exercise) -> Iterable[str]:
    if len(exercise.spec.decoy) < MIN_DECOYS:
        yield f"has {len(exercise.spec.decoy)} decoys, needs {MIN_DECOYS}"
    by_hand = sum(case.by_hand for cases in exercise.call_cases.values() for case in cases)
    by_hand += sum(case.by_hand for cases in exercise.program_cases.values() for case in cases)
    if by_hand < MIN_BY_HAND and exercise.spec.language != TEXT:
        yield f"has {by_hand} cases worked by hand, needs {MIN_BY_HAND}"
    entry = exercise.spec.entry
    shown = exercise.prompt + (exercise.opening or "") + "".join(exercise.given.values())
    if entry is not None and entry not in shown:
        yield f'the prompt never names the function "{entry}" that is called'
    if any(decoy.outcome is Outcome.PASSED for decoy in exercise.spec.decoy):
        yield "a decoy is declared to pass"


def _answer_faults(exercise: Exercise, isolation: Isolation) -> Iterable[str]:
    for number, turn in enumerate(exercise.turns, 1):
        which = f"its own answer to turn {number}" if len(exercise.turns) > 1 else "its own answer"
        grade = grade_files(exercise, turn.answer, isolation, turn=number)
        if grade.outcome is not Outcome.PASSED:
            yield f"{which} ends {grade.outcome}{_why(grade)}"
        for check in grade.checks:
            if not check.required and not check.passed:
                yield f'{which} fails the check "{check.name}": {shorten(check.detail, 300)}'


def missing_here(exercise: Exercise) -> str:
    """What an exercise needs and this rig lacks; empty when it has all."""
    language = exercise.spec.language
    if language == TEXT:
        return ""
    needed = language_of_suffix(exercise.spec.file) if language == ANY else language
    toolchain = find_toolchain(needed or "python")
    if isinstance(toolchain, Missing):
        return f"{toolchain.language} missing: {toolchain.remedy}"
    packages = find_packages(exercise.spec.packages)
    return f"package {packages} missing: pip install {packages}" if isinstance(packages, str) else ""


def _why(grade: Grade) -> str:
    detail = grade.fault or next((check.detail for check in grade.checks if not check.passed), "")
    return f" ({shorten(detail, 300)})" if detail else ""
