"""From a reply, or an answer's files, to an outcome: extraction, checks, the decision.

It brings compilers and runtimes into the page cache, so that the first answer is not the slow one; and it
tells a rig that cannot run the suite's own answers before hours are spent on it.
"""

import dataclasses
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

from kettlefield.core.errors import RigError
from kettlefield.core.extraction.extract import answer_text, extract_answer
from kettlefield.core.extraction.reply_symptoms import is_looping, is_refusal
from kettlefield.core.extraction.wanted import Answer, AnswerFile, Gap, Wanted
from kettlefield.core.languages import ANY, PAGE, TEXT, language_of_suffix
from kettlefield.core.outcome import Facts, Outcome, RunEnd, decide_outcome
from kettlefield.grading.checks.check_program import run_script
from kettlefield.grading.checks.costs import run_budget, run_growth
from kettlefield.grading.checks.function_calls import run_calls
from kettlefield.grading.checks.pages import Picture, Visited, visit_page, visit_pages
from kettlefield.grading.checks.programs import run_program
from kettlefield.grading.checks.texts import check_scope, check_text
from kettlefield.grading.other_language import is_other_language
from kettlefield.grading.results import CheckResult, unbuilt
from kettlefield.rig.toolchains import Missing, Packages, Toolchain, find_packages, find_toolchain
from kettlefield.sandbox.builds import BuildFault, Built, build_answer
from kettlefield.sandbox.isolation import Isolation
from kettlefield.suite.format import (
    BudgetCheck,
    CallsCheck,
    Check,
    Exercise,
    GrowthCheck,
    PageCheck,
    PageRulesCheck,
    ProgramCheck,
    ScopeCheck,
    ScriptCheck,
    TextCheck,
)

# after these the other checks would find the same
_FINAL = frozenset({RunEnd.NO_BUILD, RunEnd.MISSING_MODULE, RunEnd.RIG_FAULT})


@dataclass(frozen=True, slots=True, kw_only=True)
class Grade:
    """What grading one reply came to."""

    outcome: Outcome
    score: float  # weighted share of checks passed, 0 to 1
    answer: Answer
    checks: tuple[CheckResult, ...]
    fault: str = ""  # of the rig, in words
    pictures: tuple[Picture, ...] = ()  # of a page

    @property
    def files(self) -> dict[str, str]:
        """The answer's files by name."""
        return {file.name: file.text for file in self.answer.files}


def wanted_of(exercise: Exercise, *, given: dict[str, str] | None = None, continued: bool = False) -> Wanted:
    """What extraction needs to know of an exercise.

    Parameters
    ----------
    exercise : Exercise
        What was asked.
    given : dict, optional
        Files of the model's own earlier turn, which it may edit; none: those the exercise shows.
    continued : bool
        The model was given the bare opening and carried it on.
    """
    spec = exercise.spec
    gap = Gap(opening=exercise.opening, closing=exercise.closing) if exercise.opening is not None else None
    return Wanted(
        language=spec.language,
        file=spec.file,
        entry=spec.entry,
        others=spec.files,
        given=given if given is not None else exercise.given,
        gap=gap,
        continued=continued,
    )


def grade_reply(
    exercise: Exercise,
    reply: str,
    *,
    cap_hit: bool,
    isolation: Isolation,
    turn: int = 1,
    earlier: dict[str, str] | None = None,
    continued: bool = False,
) -> Grade:
    """Extract the answer from a reply and grade it.

    Parameters
    ----------
    exercise : Exercise
        What was asked.
    reply : str
        All that the model wrote.
    cap_hit : bool
        The finish reason says that the token cap or the context ended the reply.
    isolation : Isolation
        Where the answer may run.
    turn : int
        Which of the scripted turns is answered, from 1.
    earlier : dict, optional
        The files of the turn before, which this one may edit.
    continued : bool
        The model was given the bare opening and carried it on.
    """
    answer = extract_answer(reply, wanted_of(exercise, given=earlier, continued=continued))
    if exercise.spec.language == TEXT and is_refusal(reply):
        answer = dataclasses.replace(answer, files=(), how="the reply declines")
    facts = Facts(
        cap_hit=cap_hit,
        looping=cap_hit and is_looping(reply),
        declined=not answer.files and is_refusal(reply),
    )
    return _grade(exercise, answer, facts, isolation, turn)


def grade_files(
    exercise: Exercise,
    files: dict[str, str],
    isolation: Isolation,
    *,
    turn: int = 1,
    visited: Visited | None = None,
) -> Grade:
    """Grade files that need no extraction: an exercise's own answer, or a decoy.

    ``visited`` is what the browser saw of a page already; none: it is opened.
    """
    return _grade(exercise, _given_answer(exercise, files), Facts(), isolation, turn, visited)


def visit_files(exercise: Exercise, answers: list[dict[str, str]], isolation: Isolation) -> Sequence[Visited | None]:
    """What the browser sees of several of the exercise's own pages, in one run; of other exercises nothing.

    Raises
    ------
    RigError
        The browser or its driver is missing.
    """
    if exercise.spec.language != PAGE:
        return [None] * len(answers)
    built = [_build(exercise, _given_answer(exercise, files), files, isolation) for files in answers]
    return visit_pages(exercise, exercise.spec.check, [one for one in built if isinstance(one, Built)], isolation)


def _given_answer(exercise: Exercise, files: dict[str, str]) -> Answer:
    names = sorted(files, key=lambda name: (name != exercise.spec.file, name))
    language = exercise.spec.language
    return Answer(
        files=tuple(AnswerFile(name=name, text=files[name]) for name in names),
        how="given",
        language=language_of_suffix(names[0]) if language == ANY else language,
    )


def _grade(
    exercise: Exercise,
    answer: Answer,
    of_reply: Facts,
    isolation: Isolation,
    turn: int,
    visited: Visited | None = None,
) -> Grade:
    results: tuple[CheckResult, ...] = ()
    pictures: tuple[Picture, ...] = ()
    checks = exercise.turns[turn - 1].checks
    fault = ""
    if answer.files:
        try:
            results, pictures = _run_checks(exercise, checks, answer, isolation, visited)
        except RigError as err:
            fault = str(err)
    required = [result for result in results if result.required]
    # what failed for certain is not made undecided by a check that the rig could not carry out
    if not any(not result.passed and result.end is not RunEnd.RIG_FAULT for result in required):
        fault = fault or next((result.detail for result in results if result.end is RunEnd.RIG_FAULT), "")
    ends = [result.end for result in required if fault or result.end is not RunEnd.RIG_FAULT]
    is_known = exercise.spec.language not in {ANY, TEXT, PAGE}
    facts = dataclasses.replace(
        of_reply,
        has_answer=bool(answer.files),
        answer_cut=answer.cut,
        run_ends=(*ends, RunEnd.RIG_FAULT) if fault else tuple(ends),
        required_passed=tuple(result.passed for result in required),
        other_language=RunEnd.NO_BUILD in ends
        and is_known
        and is_other_language(answer, exercise.spec.language, isolation),
    )
    weights = sum(check.weight for check in checks)
    score = sum(result.weight * result.credit for result in results) / weights if weights else 0.0
    named = tuple(_as_regression(exercise, result, turn) for result in results)
    return Grade(
        outcome=decide_outcome(facts), score=score, answer=answer, checks=named, fault=fault, pictures=pictures
    )


def _as_regression(exercise: Exercise, result: CheckResult, turn: int) -> CheckResult:
    """What an earlier turn had right and this one breaks is called so."""
    own = next((exercise.own_turn(check) for check in exercise.checks if check.name == result.name), 1)
    if result.passed or own == turn:
        return result
    return dataclasses.replace(
        result,
        detail=f"regression, right at turn {own}: {result.detail}",
        feedback=f"this worked before and must still hold: {result.feedback}",
    )


@dataclass(frozen=True, slots=True, kw_only=True)
class _Bench:
    """What the checks of one answer share."""

    exercise: Exercise
    checks: tuple[Check, ...]
    built: Built
    files: dict[str, str]
    isolation: Isolation
    visits: list[Visited]  # of a page, once it was opened


def _run_checks(
    exercise: Exercise, checks: tuple[Check, ...], answer: Answer, isolation: Isolation, visited: Visited | None
) -> tuple[tuple[CheckResult, ...], tuple[Picture, ...]]:
    files = {file.name: file.text for file in answer.files}
    if exercise.spec.language == TEXT:
        text = answer_text(files[answer.main])
        return tuple(check_text(check, text) for check in checks if isinstance(check, TextCheck)), ()
    built = _build(exercise, answer, files, isolation)
    if isinstance(built, BuildFault):
        return (unbuilt(checks[0], built, _cases(exercise, checks[0])),), ()
    bench = _Bench(
        exercise=exercise,
        checks=checks,
        built=built,
        files=files,
        isolation=isolation,
        visits=[visited] if visited else [],
    )
    results: list[CheckResult] = []
    for check in checks:
        results.append(_run_check(bench, check))
        if results[-1].end in _FINAL:
            break
    return tuple(results), tuple(picture for visited in bench.visits for picture in visited.pictures)


def _run_check(bench: _Bench, check: Check) -> CheckResult:
    exercise, built, isolation = bench.exercise, bench.built, bench.isolation
    if isinstance(check, CallsCheck):
        return run_calls(exercise, check, built, isolation)
    if isinstance(check, PageCheck | PageRulesCheck):
        if not bench.visits:
            bench.visits.append(visit_page(exercise, bench.checks, built, isolation))
        return bench.visits[0].results[check.name]
    if isinstance(check, ProgramCheck):
        return run_program(exercise, check, built, isolation)
    if isinstance(check, ScriptCheck):
        return run_script(exercise, check, built, isolation)
    if isinstance(check, ScopeCheck):
        return check_scope(exercise, check, bench.files)
    if isinstance(check, GrowthCheck):
        return run_growth(exercise, check, built, build_own(exercise, check, isolation), isolation)
    if isinstance(check, BudgetCheck):
        return run_budget(exercise, check, built, build_own(exercise, check, isolation), isolation)
    raise TypeError(f"check={check!r}: a text is read, not run")


def _cases(exercise: Exercise, check: Check) -> int:
    return len(exercise.call_cases.get(check.name) or exercise.program_cases.get(check.name) or ())


def _build(exercise: Exercise, answer: Answer, files: dict[str, str], isolation: Isolation) -> Built | BuildFault:
    if answer.language is None:
        return BuildFault(end=RunEnd.NO_BUILD, words="it is in none of the languages that we know", wall_s=0.0)
    packages = _packages(exercise) if answer.language == "python" else None
    return build_answer(_toolchain(exercise, answer.language), files, answer.main, isolation, packages)


def _toolchain(exercise: Exercise, language: str) -> Toolchain:
    toolchain = find_toolchain(language)
    if isinstance(toolchain, Missing):
        raise RigError(f"{toolchain.language} is not installed", exercise.id, f"Install it: {toolchain.remedy}.")
    return toolchain


def _packages(exercise: Exercise) -> Packages | None:
    """The declared packages; one that is missing is the rig's fault, never the model's."""
    if not exercise.spec.packages:
        return None
    found = find_packages(exercise.spec.packages)
    if isinstance(found, str):
        raise RigError(f"the package {found} is not installed", exercise.id, f"Install it: pip install {found}.")
    return found


def build_own(exercise: Exercise, check: Check, isolation: Isolation) -> Built:
    """The exercise's own answer of the check's turn, made ready to run.

    Raises
    ------
    RigError
        It does not build, or a toolchain is missing.
    """
    files = exercise.turns[exercise.own_turn(check) - 1].answer
    built = _build(exercise, _given_answer(exercise, files), files, isolation)
    if isinstance(built, BuildFault):
        raise RigError(f"its own answer does not build: {built.words}", exercise.id, "Correct the suite.")
    return built


def broken_grade(fault: str) -> Grade:
    """The grade of a reply that we failed to grade: a fault of the rig, never of the model."""
    answer = Answer(files=(), how="grading broke off")
    return Grade(outcome=Outcome.RIG_FAULT, score=0.0, answer=answer, checks=(), fault=fault)


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
