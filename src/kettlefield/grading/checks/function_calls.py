"""Checks that call a function, or the methods of one object; arguments go in, values come out, compared out here."""

import json
import secrets
from typing import Any

import msgspec

from kettlefield.core.errors import InputError
from kettlefield.core.outcome import RunEnd
from kettlefield.core.plaintext import shorten
from kettlefield.core.values import compare_values
from kettlefield.grading.results import (
    DETAIL_LIMIT,
    CheckResult,
    Finding,
    Frame,
    StepFrame,
    frames_of,
    make_result,
    plain_value,
    show,
    start_fault,
    stopped,
    tail_of,
    to_limits,
)
from kettlefield.sandbox.builds import Built
from kettlefield.sandbox.isolation import Isolation
from kettlefield.sandbox.job import RunReport
from kettlefield.sandbox.runner import run_job
from kettlefield.suite.format import CallCase, CallsCheck, Exercise


def run_calls(exercise: Exercise, check: CallsCheck, built: Built, isolation: Isolation) -> CheckResult:
    """Carry out a ``calls`` check: all its cases in one process."""
    cases = exercise.call_cases[check.name]
    nonce = secrets.token_hex(16)
    report = run_job(
        built.calls_job(_order(check, cases, built.main, nonce), to_limits(exercise.spec.limits)), isolation
    )
    return make_result(check, _read(report, nonce, check, cases), len(cases), report.wall_s)


def values_of_calls(exercise: Exercise, check: CallsCheck, built: Built, isolation: Isolation) -> tuple[CallCase, ...]:
    """The check's cases with what an answer gives as their expectation: how a variant's are worked out.

    Raises
    ------
    InputError
        The answer did not get through its cases.
    """
    cases = exercise.call_cases[check.name]
    nonce = secrets.token_hex(16)
    report = run_job(
        built.calls_job(_order(check, cases, built.main, nonce), to_limits(exercise.spec.limits)), isolation
    )
    by_case = {frame.case: frame for frame in frames_of(report.results, nonce)}
    if any(number not in by_case for number in range(len(cases))):
        raise InputError(f"its own answer fails on a variant: {tail_of(report)}", exercise.id, "Correct it.")
    return tuple(_expecting(case, by_case[number]) for number, case in enumerate(cases))


def _expecting(case: CallCase, frame: Frame) -> CallCase:
    if case.steps:
        pairs = zip(case.steps, frame.steps or (), strict=True)
        steps = tuple(msgspec.structs.replace(step, **_outcome_of(result)) for step, result in pairs)
        return msgspec.structs.replace(case, steps=steps, by_hand=False)
    return msgspec.structs.replace(case, **_outcome_of(frame), by_hand=False)


def _outcome_of(frame: StepFrame) -> dict[str, Any]:
    if frame.error is not None:
        return {"expect": None, "raises": frame.error.type}
    return {"expect": plain_value(frame.value), "raises": None}


def _order(check: CallsCheck, cases: tuple[CallCase, ...], file: str, nonce: str) -> dict[str, Any]:
    """What the harness gets: arguments only, never what is expected of them."""
    return {
        "nonce": nonce,
        "file": file,
        "function": check.callee,
        "object": check.object is not None,
        "cases": [{"args": c.args, "steps": [{"call": s.call, "args": s.args} for s in c.steps]} for c in cases],
    }


def _read(report: RunReport, nonce: str, check: CallsCheck, cases: tuple[CallCase, ...]) -> Finding:
    frames = frames_of(report.results, nonce)
    fault = start_fault(frames)
    if fault is not None:
        return Finding(end=fault[0], agreed=0, detail=fault[1], feedback=fault[1])
    by_case = {frame.case: frame for frame in frames if frame.case is not None}
    agreed, end, detail, feedback = 0, RunEnd.FINISHED, "", ""
    for number, case in enumerate(cases):
        frame = by_case.get(number)
        if frame is None:
            stop = stopped(report) or (RunEnd.CRASHED, f"ended in mid-run: {tail_of(report)}")
            said = f"{_call(check.callee, case.args)}: {stop[1]}"
            return Finding(end=stop[0], agreed=agreed, detail=f"case {number + 1}: {said}", feedback=feedback or said)
        ended, said, told = _judge(check, case, frame)
        if not said:
            agreed += 1
            continue
        end = ended if end is RunEnd.FINISHED else end
        detail, feedback = detail or f"case {number + 1}: {said}", feedback or told
    return Finding(end=end, agreed=agreed, detail=detail, feedback=feedback)


def _judge(check: CallsCheck, case: CallCase, frame: Frame) -> tuple[RunEnd, str, str]:
    """How one case ended, what was wrong for the reader, and the same without what was expected."""
    call = _call(check.callee, case.args)
    if check.object is None:
        return _judge_call(check, call, (case.expect, case.raises), frame)
    if frame.error is not None:
        return _judge_call(check, call, (None, None), frame)
    results = frame.steps or ()
    for number, step in enumerate(case.steps):
        result = results[number] if number < len(results) else StepFrame()
        found = _judge_call(check, f"{call}, then {_call(step.call, step.args)}", (step.expect, step.raises), result)
        if found[1]:
            return found
    return RunEnd.FINISHED, "", ""


def _judge_call(
    check: CallsCheck, call: str, wanted: tuple[Any, str | None], frame: StepFrame
) -> tuple[RunEnd, str, str]:
    expect, raises = wanted
    error = frame.error
    if error is not None:
        if raises is not None and raises in (error.kinds or (error.type,)):
            return RunEnd.FINISHED, "", ""
        told = f"{call} raised {error.words}"
        if raises is not None:  # an error was asked for, and it is another one
            return RunEnd.FINISHED, f"{told}, expected {raises}", f"{told}, which is wrong"
        return error.end, told, told
    if frame.value is msgspec.UNSET:
        said = f"{call} gave nothing that can be read"
        return RunEnd.CRASHED, said, said
    value = plain_value(frame.value)
    gave = f"{call} gave {show(value)}"
    if raises is not None:
        return RunEnd.FINISHED, f"{gave}, expected it to raise {raises}", f"{gave}, which is wrong"
    if compare_values(value, expect, how=check.compare, tolerance=check.tolerance):
        return RunEnd.FINISHED, "", ""
    return RunEnd.FINISHED, f"{gave}, expected {show(expect)}", f"{gave}, which is wrong"


def _call(name: str, args: list[Any]) -> str:
    return f"{name}({shorten(', '.join(json.dumps(arg, ensure_ascii=False) for arg in args), DETAIL_LIMIT)})"
