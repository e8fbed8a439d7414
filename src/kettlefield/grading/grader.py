"""From a reply, or an answer's files, to an outcome: extraction, checks, the decision."""

import fnmatch
import os
import threading
from collections.abc import Callable, Mapping, Sequence
from typing import TypeVar

import msgspec

from kettlefield.core.errors import RigError
from kettlefield.core.extraction.extract import extract_answer
from kettlefield.core.extraction.reply_symptoms import is_looping, is_refusal
from kettlefield.core.extraction.syntax import ANY, PAGE, TEXT
from kettlefield.core.extraction.wanted import Answer, Gap, Wanted, main_first
from kettlefield.core.outcome import CheckResult, Facts, Outcome, RunEnd, decide_outcome
from kettlefield.grading.builds import BuildFault, Built, build_answer
from kettlefield.grading.builds_together import build_together
from kettlefield.grading.checks.all_checks import kind_of
from kettlefield.grading.checks.kind import WHOLE, Bench, Effort
from kettlefield.grading.checks.page_judging import Visited
from kettlefield.grading.checks.pages import SEEN, visit_pages
from kettlefield.grading.kept import Kept
from kettlefield.grading.other_language import is_other_language
from kettlefield.grading.results import Finding, Picture, make_result
from kettlefield.languages.all_languages import LANGUAGES, find_toolchain
from kettlefield.languages.language import Missing, Toolchain
from kettlefield.languages.packages import Packages, find_packages
from kettlefield.sandbox.isolation import Isolation
from kettlefield.sandbox.runner import Sandbox
from kettlefield.suite.format import Check, Exercise

T = TypeVar("T")
# after these the other checks would find the same
_FINAL = frozenset({RunEnd.NO_BUILD, RunEnd.MISSING_MODULE, RunEnd.RIG_FAULT})
# a busy rig may have had its part in these
_UNCERTAIN = frozenset({RunEnd.TIMED_OUT, RunEnd.OVER_LIMIT, RunEnd.RIG_FAULT})
_MOST_REPLIES = 1024  # whose checks are kept: some KiB each, a page with its pictures up to a MiB
_MOST_WAITING = 4  # replies a processor that are given to threads at once


class Grade(msgspec.Struct, frozen=True, kw_only=True):
    """What grading one reply came to."""

    outcome: Outcome
    score: float  # weighted share of checks passed, 0 to 1
    answer: Answer
    checks: tuple[CheckResult, ...]
    fault: str = ""  # of the rig, in words
    pictures: tuple[Picture, ...] = ()  # of a page
    by: str = ""  # the worker of a fleet that gave it; empty: it was given here
    is_certain: bool = True  # a busy rig had no part in it: the same answer would be found the same again


class _Checked(msgspec.Struct, frozen=True):
    """What the checks of one answer found."""

    results: tuple[CheckResult, ...]
    pictures: tuple[Picture, ...]
    is_certain: bool  # the same answer would be found the same again


def broken_grade(fault: str) -> Grade:
    """The grade of a reply that we failed to grade: a fault of the rig, never of the model."""
    answer = Answer(files={}, how="grading broke off")
    return Grade(outcome=Outcome.RIG_FAULT, score=0.0, answer=answer, checks=(), fault=fault)


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


class Grader:
    """Grades answers in one isolation, several threads at once; what it built and saw is kept for the next answer."""

    def __init__(self, isolation: Isolation) -> None:
        self.sandbox = Sandbox(isolation)
        self.kept = Kept()
        self._replies = Kept(_MOST_REPLIES)
        self._turns = threading.BoundedSemaphore(os.cpu_count() or 1)  # one a processor is graded at once

    @property
    def isolation(self) -> Isolation:
        """Where answers run."""
        return self.sandbox.isolation

    @property
    def at_once(self) -> int:
        """Threads that replies are given to: one that waits for the same answer elsewhere keeps no processor idle."""
        return _MOST_WAITING * (os.cpu_count() or 1)

    def in_turn(self, work: Callable[[], T]) -> T:
        """Do some work that keeps a processor busy, at most one a processor at once."""
        with self._turns:
            return work()

    def grade_reply(
        self,
        exercise: Exercise,
        reply: str,
        *,
        cap_hit: bool,
        turn: int = 1,
        earlier: dict[str, str] | None = None,
        continued: bool = False,
    ) -> Grade:
        """Extract the answer from a reply and grade it.

        Neighbouring levels and further samples often give the same answer, letter for letter. Its checks are run
        once, and count for all of them; they are run again where a busy rig may have had its part in a fault.

        Parameters
        ----------
        exercise : Exercise
            What was asked.
        reply : str
            All that the model wrote.
        cap_hit : bool
            The finish reason says that the token cap or the context ended the reply.
        turn : int
            Which of the scripted turns is answered, from 1.
        earlier : dict, optional
            The files of the turn before, which this one may edit.
        continued : bool
            The model was given the bare opening and carried it on.
        """
        answer = extract_answer(reply, wanted_of(exercise, given=earlier, continued=continued), LANGUAGES)
        if exercise.spec.language == TEXT and is_refusal(reply):
            answer = msgspec.structs.replace(answer, files={}, how="the reply declines")
        facts = Facts(
            cap_hit=cap_hit,
            looping=cap_hit and is_looping(reply),
            declined=not answer.files and is_refusal(reply),
        )

        def check() -> _Checked:
            return self.in_turn(lambda: self._run_checks(exercise, exercise.turns[turn - 1].checks, answer))

        def known_or_checked() -> _Checked:
            key = (_Same(exercise), turn, answer.main, answer.language, tuple(sorted(answer.files.items())))
            return self._replies.once(key, check, keep=lambda found: found.is_certain)

        return self._grade(exercise, answer, facts, turn, known_or_checked)

    def grade_files(
        self,
        exercise: Exercise,
        files: Mapping[str, str],
        *,
        turn: int = 1,
        visited: Visited | None = None,
        effort: Effort = WHOLE,
    ) -> Grade:
        """Grade files that need no extraction: an exercise's own answer, or a decoy.

        ``visited`` is what the browser saw of a page already; none: it is opened. ``effort`` says how far it is
        tried: after the first fault the outcome of a wrong answer is known, the count of its cases is not.
        """
        answer = _given_answer(exercise, files)
        checks = exercise.turns[turn - 1].checks
        return self._grade(
            exercise, answer, Facts(), turn, lambda: self._run_checks(exercise, checks, answer, visited, effort)
        )

    def visit_files(self, exercise: Exercise, answers: Sequence[Mapping[str, str]]) -> Sequence[Visited | None]:
        """What the browser sees of several of the exercise's own pages, in one run; of other exercises nothing.

        Raises
        ------
        RigError
            The browser or its driver is missing.
        """
        if exercise.spec.language != PAGE:
            return [None] * len(answers)
        built = [self._build(exercise, _given_answer(exercise, files)) for files in answers]
        pages = [one for one in built if isinstance(one, Built)]
        return visit_pages(exercise, exercise.spec.check, pages, self.sandbox, pictures=False)

    def build_ahead(self, exercise: Exercise, answers: Sequence[Mapping[str, str]]) -> None:
        """Build several of the exercise's own answers at once, where a compiler takes most of its time to start.

        Raises
        ------
        RigError
            A toolchain is missing, or the host has no room.
        """
        by_language: dict[str, list[tuple[Mapping[str, str], str]]] = {}
        for answer in (_given_answer(exercise, files) for files in answers):
            if answer.language is not None and answer.language not in {TEXT, PAGE}:
                files = {**answer.files, **exercise.beside}
                by_language.setdefault(answer.language, []).append((files, answer.main))
        for language, some in by_language.items():
            build_together(_toolchain(exercise, language), some, self.sandbox, self.kept)

    def own_bench(self, exercise: Exercise, check: Check) -> Bench:
        """The exercise's own answer of a check's turn, as it stands before the check.

        Raises
        ------
        RigError
            It does not build, or a toolchain is missing.
        """
        turn = exercise.turns[exercise.own_turn(check) - 1]
        answer = _given_answer(exercise, turn.answer)
        return self._bench(exercise, turn.checks, answer, self.build_own(exercise, check))

    def build_own(self, exercise: Exercise, check: Check) -> Built:
        """The exercise's own answer of the check's turn, made ready to run.

        Raises
        ------
        RigError
            It does not build, or a toolchain is missing.
        """
        files = exercise.turns[exercise.own_turn(check) - 1].answer
        built = self._build(exercise, _given_answer(exercise, files))
        if isinstance(built, BuildFault):
            raise RigError(f"its own answer does not build: {built.message}", exercise.id, "Correct the suite.")
        return built

    def _grade(
        self,
        exercise: Exercise,
        answer: Answer,
        of_reply: Facts,
        turn: int,
        check: Callable[[], _Checked],
    ) -> Grade:
        found = _Checked((), (), is_certain=True)
        checks = exercise.turns[turn - 1].checks
        fault = ""
        if answer.files:
            try:
                found = check()
            except RigError as err:
                fault = str(err)
        results = found.results
        required = [result for result in results if result.required]
        # what failed for certain is not made undecided by a check that the rig could not carry out
        if not any(not result.passed and result.end is not RunEnd.RIG_FAULT for result in required):
            fault = fault or next((result.detail for result in results if result.end is RunEnd.RIG_FAULT), "")
        ends = [result.end for result in required if fault or result.end is not RunEnd.RIG_FAULT]
        is_known = exercise.spec.language not in {ANY, TEXT, PAGE}
        facts = msgspec.structs.replace(
            of_reply,
            has_answer=bool(answer.files),
            answer_cut=answer.cut,
            run_ends=(*ends, RunEnd.RIG_FAULT) if fault else tuple(ends),
            required_passed=tuple(result.passed for result in required),
            in_workspace=bool(exercise.workspace),
            touched_protected=bool(answer.files) and bool(touched_protected(exercise, answer.files)),
            other_language=RunEnd.NO_BUILD in ends
            and is_known
            and is_other_language(answer, exercise.spec.language, self.sandbox, self.kept),
        )
        weights = sum(check.weight for check in checks)
        score = sum(result.weight * result.credit for result in results) / weights if weights else 0.0
        named = tuple(_as_regression(exercise, result, turn) for result in results)
        return Grade(
            outcome=decide_outcome(facts),
            score=score,
            answer=answer,
            checks=named,
            fault=fault,
            pictures=found.pictures,
            is_certain=found.is_certain and not fault,
        )

    def _run_checks(
        self,
        exercise: Exercise,
        checks: tuple[Check, ...],
        answer: Answer,
        visited: Visited | None = None,
        effort: Effort = WHOLE,
    ) -> _Checked:
        is_built = exercise.spec.language != TEXT and any(kind_of(check).needs_build for check in checks)
        built = self._build(exercise, answer) if is_built else None
        if isinstance(built, BuildFault):
            finding = Finding(end=built.end, agreed=0, detail=built.message, feedback=built.message)
            cases = exercise.cases.get(checks[0].name, ())
            return _Checked(
                (make_result(checks[0], finding, len(cases), built.wall_s),), (), built.end not in _UNCERTAIN
            )
        bench = msgspec.structs.replace(self._bench(exercise, checks, answer, built), effort=effort)
        if visited is not None:
            bench.seen[SEEN] = visited
        results: list[CheckResult] = []
        # the check that is likely to fail first, where the first fault is enough
        for check in sorted(checks, key=lambda check: check.name not in effort.first):
            wrong = next((result.name for result in results if result.required and not result.passed), None)
            if wrong is not None and kind_of(check).only_right:
                words = f'not measured, since "{wrong}" failed'
                results.append(make_result(check, Finding(end=RunEnd.FINISHED, agreed=0, detail=words), 1, 0.0))
                continue
            results.append(kind_of(check).run(bench, check))
            if results[-1].end in _FINAL or (effort.until != "end" and results[-1].required and not results[-1].passed):
                break
        return _Checked(tuple(results), tuple(bench.pictures), is_certain=_are_certain(results, checks, bench))

    def _bench(self, exercise: Exercise, checks: tuple[Check, ...], answer: Answer, built: Built | None) -> Bench:
        return Bench(
            exercise=exercise,
            checks=checks,
            files=dict(answer.files),
            main=answer.main,
            answer=built,
            own=lambda check: self.build_own(exercise, check),
            sandbox=self.sandbox,
            kept=self.kept,
        )

    def _build(self, exercise: Exercise, answer: Answer) -> Built | BuildFault:
        if exercise.spec.file not in answer.files and exercise.workspace:
            said = f"there is no {exercise.spec.file} any more"
            return BuildFault(end=RunEnd.NO_BUILD, message=said, wall_s=0.0)
        if answer.language is None:
            return BuildFault(end=RunEnd.NO_BUILD, message="it is in none of the languages that we know", wall_s=0.0)
        harness = LANGUAGES[answer.language].harness
        packages = _packages(exercise) if harness is not None and harness.takes_packages else None
        toolchain = _toolchain(exercise, answer.language)
        files = {**answer.files, **exercise.beside}
        return build_answer(toolchain, files, answer.main, self.sandbox, self.kept, packages)


def touched_protected(exercise: Exercise, files: Mapping[str, str]) -> list[str]:
    """The files of a workspace that must stay as they are, and did not."""
    patterns = exercise.spec.workspace.protected if exercise.spec.workspace is not None else ()
    changed = [name for name in {*exercise.workspace, *files} if exercise.workspace.get(name) != files.get(name)]
    return sorted(name for name in changed if any(fnmatch.fnmatchcase(name, pattern) for pattern in patterns))


class _Same:
    """An exercise as part of a key: equal to itself alone. The key keeps it, so no other can have its identity."""

    def __init__(self, exercise: Exercise) -> None:
        self.exercise = exercise

    def __eq__(self, other: object) -> bool:
        return isinstance(other, _Same) and other.exercise is self.exercise

    def __hash__(self) -> int:
        return hash((self.exercise.id, id(self.exercise)))


def _are_certain(results: Sequence[CheckResult], checks: Sequence[Check], bench: Bench) -> bool:
    """Whether no fault among the results is one in which a busy rig may have had its part."""
    seen = bench.seen.get(SEEN)
    measured = {check.name for check in checks if kind_of(check).only_right}
    return not (isinstance(seen, Visited) and not seen.steady) and all(
        result.end not in _UNCERTAIN and (result.passed or result.name not in measured) for result in results
    )


def _given_answer(exercise: Exercise, files: Mapping[str, str]) -> Answer:
    ordered, language = main_first(files, exercise.spec.file), exercise.spec.language
    return Answer(
        files=ordered,
        how="given",
        language=LANGUAGES.of_suffix(next(iter(ordered))) if language == ANY else language,
    )


def _as_regression(exercise: Exercise, result: CheckResult, turn: int) -> CheckResult:
    """What an earlier turn had right and this one breaks is called so."""
    own = next((exercise.own_turn(check) for check in exercise.checks if check.name == result.name), 1)
    if result.passed or own == turn:
        return result
    return msgspec.structs.replace(
        result,
        detail=f"regression, right at turn {own}: {result.detail}",
        feedback=f"this worked before and must still hold: {result.feedback}",
    )


def _toolchain(exercise: Exercise, language: str) -> Toolchain:
    toolchain = find_toolchain(language)
    if isinstance(toolchain, Missing):
        raise RigError(f"{toolchain.language} is not installed", exercise.id, f"Install it: {toolchain.remedy}.")
    return toolchain


def _packages(exercise: Exercise) -> Packages | None:
    """The declared packages; one that is missing is the rig's fault, never the model's."""
    if not exercise.spec.packages:
        return None
    packages = find_packages(exercise.spec.packages)
    if isinstance(packages, str):
        raise RigError(f"the package {packages} is not installed", exercise.id, f"Install it: pip install {packages}.")
    return packages
