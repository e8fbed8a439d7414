"""From a reply, or an answer's files, to an outcome: extraction, checks, the decision."""

import dataclasses
from dataclasses import dataclass

from kettlefield.core.answer import Answer, AnswerFile, Wanted
from kettlefield.core.errors import RigError
from kettlefield.core.extraction import extract_answer
from kettlefield.core.outcome import Facts, Outcome, RunEnd, decide_outcome
from kettlefield.core.replysigns import is_looping, is_refusal
from kettlefield.grading.checks import CheckResult, run_calls, run_program, unbuilt
from kettlefield.grading.otherlanguage import is_other_language
from kettlefield.rig.toolchains import Missing, find_toolchain
from kettlefield.sandbox.building import BuildFault, build_answer
from kettlefield.sandbox.isolation import Isolation
from kettlefield.suite.format import CallsCheck, Exercise


@dataclass(frozen=True, slots=True, kw_only=True)
class Grade:
    """What grading one reply came to."""

    outcome: Outcome
    score: float  # weighted share of checks passed, 0 to 1
    answer: Answer
    checks: tuple[CheckResult, ...]
    fault: str = ""  # of the rig, in words


def wanted_of(exercise: Exercise) -> Wanted:
    """What extraction needs to know of an exercise."""
    return Wanted(language=exercise.spec.language, file=exercise.spec.file, entry=exercise.spec.entry)


def grade_reply(exercise: Exercise, reply: str, *, cap_hit: bool, isolation: Isolation) -> Grade:
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
    """
    answer = extract_answer(reply, wanted_of(exercise))
    facts = Facts(
        cap_hit=cap_hit,
        looping=cap_hit and is_looping(reply),
        declined=not answer.files and is_refusal(reply),
    )
    return _grade(exercise, answer, facts, isolation)


def grade_files(exercise: Exercise, files: dict[str, str], isolation: Isolation) -> Grade:
    """Grade files that need no extraction: an exercise's own answer, or a decoy."""
    answer = Answer(files=tuple(AnswerFile(name=n, text=t) for n, t in files.items()), how="given")
    return _grade(exercise, answer, Facts(), isolation)


def _grade(exercise: Exercise, answer: Answer, of_reply: Facts, isolation: Isolation) -> Grade:
    checks: tuple[CheckResult, ...] = ()
    fault = ""
    if answer.files:
        try:
            checks = _run_checks(exercise, {file.name: file.text for file in answer.files}, isolation)
        except RigError as err:
            fault = str(err)
    fault = fault or next((check.detail for check in checks if check.end is RunEnd.RIG_FAULT), "")
    ends = [check.end for check in checks if check.required]
    facts = dataclasses.replace(
        of_reply,
        has_answer=bool(answer.files),
        answer_cut=answer.cut,
        run_ends=(*ends, RunEnd.RIG_FAULT) if fault else tuple(ends),
        required_passed=tuple(check.passed for check in checks if check.required),
        other_language=RunEnd.NO_BUILD in ends and is_other_language(answer, exercise.spec.language, isolation),
    )
    weights = sum(check.weight for check in exercise.spec.check)
    score = sum(check.weight for check in checks if check.passed) / weights if weights else 0.0
    return Grade(outcome=decide_outcome(facts), score=score, answer=answer, checks=checks, fault=fault)


def _run_checks(exercise: Exercise, files: dict[str, str], isolation: Isolation) -> tuple[CheckResult, ...]:
    toolchain = find_toolchain(exercise.spec.language)
    if isinstance(toolchain, Missing):
        raise RigError(f"{toolchain.language} is not installed", exercise.id, f"Install it: {toolchain.remedy}.")
    built = build_answer(toolchain, files, exercise.spec.file, isolation)
    if isinstance(built, BuildFault):
        return (unbuilt(exercise, exercise.spec.check[0], built),)
    results = []
    for check in exercise.spec.check:
        if isinstance(check, CallsCheck):
            results.append(run_calls(exercise, check, files, toolchain, isolation))
        else:
            results.append(run_program(exercise, check, built, isolation))
        if results[-1].end in {RunEnd.NO_BUILD, RunEnd.MISSING_MODULE, RunEnd.RIG_FAULT}:
            break  # the other checks would find the same
    return tuple(results)
