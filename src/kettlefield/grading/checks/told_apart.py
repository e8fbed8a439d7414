"""Checks of test programs: they must pass on right implementations and fail on each wrong one."""

from collections.abc import Iterable
from pathlib import Path

from kettlefield.core.outcome import CheckResult, RunEnd
from kettlefield.grading.builds import BuildFault
from kettlefield.grading.checks.kind import Bench, CheckKind
from kettlefield.grading.checks.programs import ProgramCase, run_case
from kettlefield.grading.results import Finding, make_result, tail_of, to_limits
from kettlefield.suite.check_form import TextReader
from kettlefield.suite.format import Check, Exercise, Part


class TestsCheck(Check, frozen=True, kw_only=True, tag_field="kind", tag="tests"):
    """A test program that is run beside implementations of what it tests; it ends with status 0 when all is right."""

    __test__ = False  # no test of ours

    subject: str  # name under which an implementation lies beside the answer
    right: tuple[str, ...]  # files beside exercise.toml; several, so that tests of more than was asked are seen
    wrong: tuple[str, ...]  # each breaks one rule


class Implementation(Part, frozen=True, kw_only=True):
    """One implementation of what is tested."""

    name: str
    text: str
    is_right: bool


def _read(check: TestsCheck, folder: Path, read: TextReader) -> tuple[Implementation, ...]:
    return tuple(
        Implementation(name=name, text=read.text(folder / name), is_right=is_right)
        for names, is_right in ((check.right, True), (check.wrong, False))
        for name in names
    )


def _run(bench: Bench, check: TestsCheck) -> CheckResult:
    """Run the tests once an implementation; right ones first, since tests that fail on those tell nothing."""
    cases: tuple[Implementation, ...] = bench.exercise.cases[check.name]
    limits = to_limits(bench.exercise.spec.limits)
    agreed, detail, feedback, wall_s, first_fault = 0, "", "", 0.0, 0
    for number, case in enumerate(cases, 1):
        built = bench.build_again({**bench.built.texts, check.subject: case.text})
        if isinstance(built, BuildFault):
            failed = Finding(end=built.end, agreed=agreed, detail=built.message, feedback=built.message)
            return make_result(check, failed, len(cases), wall_s)
        run = run_case(ProgramCase(), built, limits, bench.sandbox, ())
        wall_s += run.report.wall_s
        # a test that hangs or is killed has not told anything, whatever it was run with
        if run.fault and run.end is not RunEnd.CRASHED:
            said = f"with {case.name}: {run.fault}"
            return make_result(
                check, Finding(end=run.end, agreed=agreed, detail=said, feedback=run.fault), len(cases), wall_s
            )
        passes = not run.fault and run.report.exit_status == 0
        if passes == case.is_right:
            agreed += 1
            continue
        if not detail:
            first_fault = number
            tail = run.fault or tail_of(run.report)
            detail = (
                f"fails on the right implementation {case.name}: {tail}"
                if case.is_right
                else f"passes on the wrong implementation {case.name}"
            )
            feedback = (
                f"the tests fail on an implementation that keeps every rule: {tail}"
                if case.is_right
                else "the tests pass on an implementation that breaks a rule"
            )
        if case.is_right or bench.effort.until == "case":
            break
    finding = Finding(end=RunEnd.FINISHED, agreed=agreed, detail=detail, feedback=feedback, first_fault=first_fault)
    return make_result(check, finding, len(cases), wall_s)


def _faults(check: TestsCheck) -> Iterable[tuple[str, str]]:
    if len(check.right) < 2 or len(check.wrong) < 2:
        what = f"has {len(check.right)} right and {len(check.wrong)} wrong implementations"
        yield what, "Write at least two of each."


def _unfair(_exercise: Exercise, check: TestsCheck, said: str) -> Iterable[str]:
    module = check.subject.rsplit(".", 1)[0]
    if check.subject not in said and module not in said:
        yield f'the prompt never names "{check.subject}", which is tested'


TESTS = CheckKind(
    spec=TestsCheck,
    read=_read,
    faults=_faults,
    run=_run,
    unfair=_unfair,
    by_hand=len,
    runs=lambda result: max(1, result.cases_total),
)
