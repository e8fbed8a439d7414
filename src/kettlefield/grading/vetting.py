"""Trust the instruments: a suite's own answers must pass and its decoys must end as they declare."""

import contextlib
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor

import msgspec

from kettlefield.core.errors import InputError, RigError
from kettlefield.core.extraction.syntax import ANY, TEXT
from kettlefield.core.outcome import Outcome
from kettlefield.core.plaintext import shorten
from kettlefield.grading.checks.all_checks import CHECKS, kind_of
from kettlefield.grading.checks.kind import WHOLE, Bench, Effort
from kettlefield.grading.checks.page_judging import Visited
from kettlefield.grading.claims import breaks_more, claim_faults, unclaimed
from kettlefield.grading.command_run import languages_in, run_command
from kettlefield.grading.fairness import paper_faults, unfinished
from kettlefield.grading.grader import Grade, Grader
from kettlefield.grading.mutants import WANTED_SHARE, Caught, try_mutants
from kettlefield.grading.results import stopped, tail_of, to_limits
from kettlefield.languages.all_languages import LANGUAGES, find_toolchain
from kettlefield.languages.language import Missing
from kettlefield.languages.packages import find_packages
from kettlefield.suite.format import Check, Exercise

QUICK_SHARE = 0.34  # of its time limit that an own answer may use: a slower machine must not fail it
# exercises of this kind take seconds by design, and say nothing more of a toolchain
_SLOW_KINDS = frozenset({"speed"})
TRIES = 3  # where a busy rig may have had its part in what looks like a fault of the suite


def settle(exercise: Exercise, grader: Grader) -> Exercise:
    """One exercise with its variant's expectations; as it is when it does not vary.

    Raises
    ------
    InputError
        Its own answer fails on the variant.
    RigError
        A toolchain or package is missing.
    """
    if not exercise.is_variant:
        return exercise
    cases = dict(exercise.cases)
    for check in exercise.checks:
        work_out = kind_of(check).settle
        if work_out is not None:
            cases[check.name] = _settled(work_out, grader.own_bench(exercise, check), check)
    return msgspec.structs.replace(exercise, cases=cases, is_variant=False)


def _settled(work_out: Callable[[Bench, Check], tuple[object, ...]], bench: Bench, check: Check) -> tuple[object, ...]:
    for _ in range(TRIES - 1):
        with contextlib.suppress(InputError):  # a busy rig may have had its part: the last try tells
            return work_out(bench, check)
    return work_out(bench, check)


def warm_up(exercises: Sequence[Exercise], grader: Grader, *, workers: int) -> None:
    """Grade one own answer a language: compilers are in the page cache then, and a rig that lacks one is known.

    Parameters
    ----------
    exercises : sequence of Exercise
        With their variants settled.
    grader : Grader
        Grades the answers.
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

    def grade_own(exercise: Exercise) -> None:
        grade = _graded(exercise, grader, exercise.answer, None)
        if grade.outcome is not Outcome.PASSED:
            raise RigError(
                f"the suite's own answer in {exercise.spec.language} ends {grade.outcome} here{_why(grade)}",
                exercise.id,
                "Run `kettlefield vet` on the suite; what is missing is named there and by `kettlefield rig`.",
            )

    with ThreadPoolExecutor(workers) as pool:
        list(pool.map(grade_own, first.values()))


class Vetted(msgspec.Struct, frozen=True, kw_only=True):
    """What vetting found of one exercise; no fault means that its checks can be trusted."""

    exercise: Exercise
    faults: tuple[str, ...]
    not_vetted: str = ""  # why it could not be vetted here, for want of a toolchain
    caught: Caught | None = None  # what became of its mutants, where they were tried

    @property
    def warning(self) -> str:
        """What should be looked at although nothing is wrong."""
        demands = unclaimed(self.exercise)
        if demands and not self.not_vetted:
            return f"claims none of its {demands} demands: nothing proves that its checks see them"
        if (
            self.caught is None
            or self.caught.says_little
            or self.caught.share is None
            or self.caught.share >= WANTED_SHARE
        ):
            return ""
        return f"checks catch {self.caught.share:.0%} of mutants, wanted {WANTED_SHARE:.0%}"


# where each decoy was caught: its name, the check and the number of the first case that failed, 0 without one
CaughtAt = dict[str, dict[str, int]]


def vet_exercise(
    exercise: Exercise,
    grader: Grader,
    *,
    mutants: bool = False,
    caught_at: CaughtAt | None = None,
    with_also: bool = True,
) -> Vetted:
    """Vet one exercise: what can be seen without running it, then its answer, its decoys and its mutants.

    Parameters
    ----------
    exercise : Exercise
        As loaded, with one seed.
    grader : Grader
        Grades answers and decoys.
    mutants : bool
        Try mechanical mutants of the own answer too.
    caught_at : dict, optional
        Where decoys were caught with other seeds: those cases are tried first. What is found here is put in.
    with_also : bool
        Run the further honest answers too.
    """
    missing = missing_here(exercise)
    if missing:
        return Vetted(exercise=exercise, faults=(), not_vetted=missing)
    to_write = unfinished(exercise)
    if to_write:
        return Vetted(exercise=exercise, faults=(to_write,))
    is_variant = exercise.is_variant
    on_paper = [] if exercise.is_variant else [*paper_faults(exercise), *claim_faults(exercise)]
    turns_own = [
        answer for turn in exercise.turns for answer in (turn.answer, *(turn.also.values() if with_also else ()))
    ]
    grader.build_ahead(exercise, [*turns_own, *exercise.decoys.values()])
    try:
        exercise = settle(exercise, grader)
    except InputError as err:
        return Vetted(exercise=exercise, faults=(str(err),))
    decoys = [exercise.decoys[decoy.name] for decoy in exercise.spec.decoy]
    if not with_also:
        turns = tuple(msgspec.structs.replace(turn, also={}) for turn in exercise.turns)
        exercise = msgspec.structs.replace(exercise, turns=turns)
    also = exercise.turns[0].also
    # all that is to be opened of a page in one browser: starting one takes longer than a visit
    seen = iter(grader.visit_files(exercise, [exercise.answer, exercise.answer, *also.values(), *decoys]))
    own = (next(seen), next(seen))
    faults = [*on_paper]
    # what a variant expects is what its own answer gave a moment ago
    if not is_variant or any(kind_of(check).settle is None for check in exercise.checks):
        faults += _answer_faults(exercise, grader, own)
    # what a sanitiser sees hangs on the code, and hardly on the values
    faults += _command_faults(exercise, grader)
    faults += _also_faults(exercise, grader, seen, Effort(sanitised=False) if is_variant else WHOLE)
    faults += _decoy_faults(exercise, grader, seen, caught_at if caught_at is not None else {}, is_variant=is_variant)
    # of a repository the checks look at what was changed, and a mutant may stand anywhere
    caught = try_mutants(exercise, grader) if mutants and not faults and not exercise.workspace else None
    return Vetted(exercise=exercise, faults=tuple(faults), caught=caught)


def _command_faults(exercise: Exercise, grader: Grader) -> Iterable[str]:
    """Commands of a workspace that do not end well on the own answer: a model could not rely on what they say."""
    table = exercise.spec.workspace
    for name, line in table.commands.items() if table is not None else ():
        limits = to_limits(exercise.spec.limits)
        needs = table.needs if table is not None else ()
        report = run_command(line, exercise.answer, limits, grader.sandbox, needs=needs, joined=True).report
        if report.exit_status != 0:
            stop = stopped(report)
            said = stop[1] if stop is not None else f"exit status {report.exit_status}: {tail_of(report)}"
            yield f'the command "{name}" fails on its own answer: {shorten(said, 300)}'


def _also_faults(exercise: Exercise, grader: Grader, seen: Iterator[Visited | None], effort: Effort) -> Iterable[str]:
    """Other honest answers that do not pass."""
    for number, turn in enumerate(exercise.turns, 1):
        for name, files in turn.also.items():
            visited = next(seen) if number == 1 else None
            grade = _graded(exercise, grader, files, visited, turn=number, effort=effort)
            if grade.outcome is not Outcome.PASSED:
                yield f'the honest answer "{name}" ends {grade.outcome}{_why(grade)}'


def _decoy_faults(
    exercise: Exercise, grader: Grader, seen: Iterator[Visited | None], caught_at: CaughtAt, *, is_variant: bool
) -> Iterable[str]:
    """Decoys that end otherwise than declared, or break more than the claim that they stand for.

    Of a variant only the outcome is asked for: how many cases fail is seen on the exercise as written. A decoy that
    does not end, or not by itself, does so whatever the values are, and waiting for it takes long.
    """
    claims = {claim.broken_by: claim for claim in exercise.spec.claim}
    for decoy in exercise.spec.decoy:
        files, visited = exercise.decoys[decoy.name], next(seen)
        if is_variant and decoy.outcome is not Outcome.WRONG_ANSWER:
            continue
        likely = caught_at.get(decoy.name, {})
        effort = Effort(until="case", first=likely) if is_variant else Effort(until="check")
        grade = _graded(exercise, grader, files, visited, wanted=decoy.outcome, turn=decoy.turn, effort=effort)
        failed = [check for check in grade.checks if check.required and not check.passed]
        caught_at[decoy.name] = {check.name: check.first_fault for check in failed[:1]} or likely
        if grade.outcome is not decoy.outcome:
            yield f'decoy "{decoy.name}" ends {grade.outcome}, declared {decoy.outcome}{_why(grade)}'
        elif decoy.name in claims and not is_variant:
            claim = claims[decoy.name]
            if breaks_more(claim, grade.outcome, grade.checks):  # it may get checks right that were not come to
                grade = _graded(exercise, grader, files, visited, wanted=decoy.outcome, turn=decoy.turn)
            yield from filter(None, [breaks_more(claim, grade.outcome, grade.checks)])


def _answer_faults(exercise: Exercise, grader: Grader, seen: Sequence[Visited | None]) -> Iterable[str]:
    for number, turn in enumerate(exercise.turns, 1):
        which = f"its own answer to turn {number}" if len(exercise.turns) > 1 else "its own answer"
        first, second = seen if number == 1 else (None, None)
        grade = _graded(exercise, grader, turn.answer, first, turn=number)
        if grade.outcome is not Outcome.PASSED:
            yield f"{which} ends {grade.outcome}{_why(grade)}"
        if exercise.spec.kind != "speed":  # how its cost grows is measured many times over already
            again = _graded(exercise, grader, turn.answer, second, turn=number)
            if again.outcome is not grade.outcome:
                yield f"{which} ends {again.outcome} when it is run again"
        slow = _slow(exercise, grade, which)
        for _ in range(TRIES - 1):
            if slow:  # on a busy host everything is, now and then
                slow = _slow(exercise, grader.grade_files(exercise, turn.answer, turn=number), which)
        yield from slow
        for check in grade.checks:
            if not check.required and not check.passed:
                yield f'{which} fails the check "{check.name}": {shorten(check.detail, 300)}'


def _graded(
    exercise: Exercise,
    grader: Grader,
    files: Mapping[str, str],
    visited: Visited | None,
    *,
    wanted: Outcome = Outcome.PASSED,
    turn: int = 1,
    effort: Effort = WHOLE,
) -> Grade:
    """The grade of an answer; given again where it is another than declared and a busy rig may have had its part."""
    grade = grader.grade_files(exercise, files, turn=turn, visited=visited, effort=effort)
    for _ in range(TRIES - 1):
        if grade.outcome is not wanted and not grade.is_certain:
            grade = grader.grade_files(exercise, files, turn=turn, effort=effort)
    return grade


def _slow(exercise: Exercise, grade: Grade, which: str) -> list[str]:
    """The checks that take an own answer more of its time limit than a slower machine could spare."""
    allowed, slow = float(exercise.spec.limits.wall), []
    for check in grade.checks:
        count = CHECKS[check.kind].runs
        runs = count(check) if count is not None else 0
        if runs and check.wall_s > QUICK_SHARE * allowed * runs:
            slow.append(f'{which} takes {check.wall_s / runs:.1f} s of {allowed:g} s in "{check.name}"')
    return slow


def missing_here(exercise: Exercise) -> str:
    """What an exercise needs and this rig lacks; empty when it has all."""
    language = exercise.spec.language
    if language == TEXT:
        return ""
    needed = LANGUAGES.of_suffix(exercise.spec.file) if language == ANY else language
    for name in dict.fromkeys((needed or "python", *_run_beside(exercise))):
        toolchain = find_toolchain(name)
        if isinstance(toolchain, Missing):
            return f"{toolchain.language} missing: {toolchain.remedy}"
    packages = find_packages(exercise.spec.packages)
    return f"package {packages} missing: pip install {packages}" if isinstance(packages, str) else ""


def _run_beside(exercise: Exercise) -> tuple[str, ...]:
    """The languages that the commands of a workspace run."""
    table = exercise.spec.workspace
    return () if table is None else (*table.needs, *languages_in(" ".join(table.commands.values())))


def _why(grade: Grade) -> str:
    detail = grade.fault or next((check.detail for check in grade.checks if not check.passed), "")
    return f" ({shorten(detail, 300)})" if detail else ""
