"""What a variant's cases expect: worked out by running its own answer, shut in like any other."""

import msgspec

from kettlefield.core.errors import InputError
from kettlefield.grading.calls import values_of_calls
from kettlefield.grading.grader import build_own
from kettlefield.grading.programs import run_case
from kettlefield.grading.results import to_limits
from kettlefield.sandbox.isolation import Isolation
from kettlefield.suite.format import CallsCheck, Exercise, ProgramCase, ProgramCheck


def settle(exercise: Exercise, isolation: Isolation) -> Exercise:
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
    calls, programs = dict(exercise.call_cases), dict(exercise.program_cases)
    for check in exercise.checks:
        if isinstance(check, CallsCheck):
            built = build_own(exercise, check, isolation)
            calls[check.name] = values_of_calls(exercise, check, built, isolation)
        elif isinstance(check, ProgramCheck):
            built = build_own(exercise, check, isolation)
            limits = to_limits(exercise.spec.limits)
            cases = []
            for case in programs[check.name]:
                run = run_case(case, built, limits, isolation, tuple(case.writes))
                if run.fault:
                    raise InputError(f"its own answer fails on a variant: {run.fault}", exercise.id, "Mend it.")
                writes = {name: run.writes[name].decode("utf-8", errors="replace") for name in case.writes}
                cases.append(_with(case, run.stdout, run.report.exit_status or 0, writes))
            programs[check.name] = tuple(cases)
    return msgspec.structs.replace(exercise, call_cases=calls, program_cases=programs, is_variant=False)


def _with(case: ProgramCase, stdout: str, status: int, writes: dict[str, str]) -> ProgramCase:
    printed = stdout if case.stdout is not None else None
    return msgspec.structs.replace(case, stdout=printed, exit=status, writes=writes, by_hand=False)
