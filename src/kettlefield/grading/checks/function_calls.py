"""Checks that call a function, or the methods of one object; arguments go in, values come out, compared out here."""

import json
import re
import secrets
from collections.abc import Iterable
from pathlib import Path
from typing import Any, Literal

import msgspec

from kettlefield.core.errors import InputError
from kettlefield.core.outcome import CheckResult, RunEnd
from kettlefield.core.plaintext import shorten
from kettlefield.core.values import Likeness, compare_values
from kettlefield.grading.checks.kind import Bench, CheckKind
from kettlefield.grading.prompt_words import unsaid, visible_values, without_json_words
from kettlefield.grading.results import (
    DETAIL_LIMIT,
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
from kettlefield.sandbox.job import RunReport
from kettlefield.suite.check_form import TextReader, read_cases
from kettlefield.suite.format import Check, Exercise, Part

Comparison = Literal["equal", "any-order", "one-of", "within", "pattern"]


class CallsCheck(Check, frozen=True, kw_only=True, tag_field="kind", tag="calls"):
    """A named function, or the methods of one object, called with JSON arguments; compared outside the sandbox."""

    function: str | None = None
    object: str | None = None  # a class: each case makes one object and calls its methods in turn
    cases: str  # file beside exercise.toml: [{"args": [...], "expect": ...}]
    file: str | None = None  # of the answer, that defines it; none: the main one
    compare: Comparison = "equal"
    arguments: Literal["kept", "free"] = "kept"  # whether a call may change what it is given
    whole_numbers: Literal["strict", "by-value"] = "strict"  # whether 5.0 does for 5, where a language tells them apart
    key_order: bool = False  # mappings are compared with the order of their keys
    computed_words: bool = False  # what is expected holds words that are worked out, so no prompt can say them
    tolerance: float | None = None  # absolute or relative, whichever is larger; none: exact

    @property
    def callee(self) -> str:
        """What is called: the function or the class."""
        return self.function or self.object or ""


class MethodStep(Part, frozen=True, kw_only=True):
    """One method call on a case's object."""

    call: str
    args: list[Any] = msgspec.field(default_factory=list)
    expect: Any = None
    raises: str | None = None


class CallCase(Part, frozen=True, kw_only=True):
    """One call, or one object and its calls: the arguments go into the sandbox, what is expected never does."""

    args: list[Any] = msgspec.field(default_factory=list)
    expect: Any = None
    raises: str | None = None  # the error's type; nothing is returned then
    steps: tuple[MethodStep, ...] = ()
    by_hand: bool = False  # worked from the prompt, by hand or by a second way, not by running the answer


def _read_cases(check: CallsCheck, folder: Path, read: TextReader) -> tuple[CallCase, ...]:
    return read_cases(folder / check.cases, CallCase, read, expects=("expect", "raises", "steps"))


def _faults(check: CallsCheck) -> Iterable[tuple[str, str]]:
    if (check.function is None) == (check.object is None):
        yield "wants one of function and object", "Write the function's name, or the class's."


def _unfair(exercise: Exercise, check: CallsCheck, said: str) -> Iterable[str]:
    if check.callee not in said:
        yield f'the prompt never names "{check.callee}"'
    cases: tuple[CallCase, ...] = exercise.cases[check.name]
    methods = {step.call for case in cases for step in case.steps}
    errors = {r for case in cases for r in (case.raises, *(step.raises for step in case.steps)) if r is not None}
    for word in sorted((methods | errors) - set(re.findall(r"\w+", said))):
        yield f'the prompt never names "{word}"'
    if not check.computed_words:
        yield from unsaid(said, ((_inputs(case), _outputs(case)) for case in cases))
    yield from visible_values(said, [json.dumps(case.expect) for case in cases if not case.by_hand])
    if check.arguments == "kept" and any(map(_can_change, cases)) and not _STAYS.search(said):
        yield 'the prompt never says that the arguments stay unchanged: say so, or write arguments = "free"'


_STAYS = re.compile(
    r"unchanged|\b(?:not|never)(?: be)? (?:change|modif|alter|touch)|\bas (?:it|they) (?:is|are|was|were)\b",
    re.IGNORECASE,
)


def _can_change(case: CallCase) -> bool:
    """Whether a call is given something that it could change."""
    given = [*case.args, *(arg for step in case.steps for arg in step.args)]
    return any(isinstance(arg, list | dict) for arg in given)


def _inputs(case: CallCase) -> str:
    return json.dumps([case.args, [step.args for step in case.steps]])


def _outputs(case: CallCase) -> str:
    values: list[Any] = [case.expect, *(step.expect for step in case.steps)]
    return without_json_words(json.dumps(values, ensure_ascii=False))


def _call_all(bench: Bench, check: CallsCheck) -> tuple[RunReport, str]:
    """One process that calls all cases, and the nonce of its frames."""
    nonce = secrets.token_hex(16)
    order = _order(check, bench.exercise.cases[check.name], check.file or bench.built.main, nonce)
    return bench.run(bench.built.calls_job(order, to_limits(bench.exercise.spec.limits))), nonce


def _run(bench: Bench, check: CallsCheck) -> CheckResult:
    cases = bench.exercise.cases[check.name]
    report, nonce = _call_all(bench, check)
    harness = bench.built.language.harness
    strict = check.whole_numbers == "strict" and harness is not None and harness.tells_whole_numbers
    like = Likeness(
        tolerance=check.tolerance,
        whole_stays_whole=strict and check.tolerance is None,
        key_order=check.key_order,
    )
    return make_result(check, _read(report, nonce, check, cases, like), len(cases), report.wall_s)


def _settle(bench: Bench, check: CallsCheck) -> tuple[CallCase, ...]:
    """The check's cases with what the own answer gives as their expectation."""
    cases: tuple[CallCase, ...] = bench.exercise.cases[check.name]
    report, nonce = _call_all(bench, check)
    by_case = {frame.case: frame for frame in frames_of(report.results, nonce)}
    if any(number not in by_case for number in range(len(cases))):
        raise InputError(f"its own answer fails on a variant: {tail_of(report)}", bench.exercise.id, "Correct it.")
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


def _read(report: RunReport, nonce: str, check: CallsCheck, cases: tuple[CallCase, ...], like: Likeness) -> Finding:
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
        ended, said, told = _judge(check, case, frame, like)
        if not said:
            agreed += 1
            continue
        end = ended if end is RunEnd.FINISHED else end
        detail, feedback = detail or f"case {number + 1}: {said}", feedback or told
    return Finding(end=end, agreed=agreed, detail=detail, feedback=feedback)


def _judge(check: CallsCheck, case: CallCase, frame: Frame, like: Likeness) -> tuple[RunEnd, str, str]:
    """How one case ended, what was wrong for the reader, and the same without what was expected."""
    call = _call(check.callee, case.args)
    if check.object is None:
        return _judge_call(check, call, (case.expect, case.raises), frame, like)
    if frame.error is not None:
        return _judge_call(check, call, (None, None), frame, like)
    results = frame.steps or ()
    for number, step in enumerate(case.steps):
        result = results[number] if number < len(results) else StepFrame()
        done = f"{call}, then {_call(step.call, step.args)}"
        judged = _judge_call(check, done, (step.expect, step.raises), result, like)
        if judged[1]:
            return judged
    changed = _changed(check, f"{call} and its methods", frame)
    return RunEnd.FINISHED, changed, changed


def _changed(check: CallsCheck, call: str, frame: StepFrame) -> str:
    return f"{call} changed argument {frame.changed}" if frame.changed and check.arguments == "kept" else ""


def _judge_call(
    check: CallsCheck, call: str, wanted: tuple[Any, str | None], frame: StepFrame, like: Likeness
) -> tuple[RunEnd, str, str]:
    expect, raises = wanted
    error = frame.error
    if error is not None:
        if raises is not None and raises in (error.kinds or (error.type,)):
            changed = _changed(check, call, frame)
            return RunEnd.FINISHED, changed, changed
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
    if compare_values(value, expect, like, how=check.compare):
        changed = _changed(check, call, frame)
        return RunEnd.FINISHED, changed, changed
    return RunEnd.FINISHED, f"{gave}, expected {show(expect)}", f"{gave}, which is wrong"


def _call(name: str, args: list[Any]) -> str:
    return f"{name}({shorten(', '.join(json.dumps(arg, ensure_ascii=False) for arg in args), DETAIL_LIMIT)})"


CALLS = CheckKind(
    spec=CallsCheck,
    read=_read_cases,
    calls=lambda _: True,
    faults=_faults,
    one_value=lambda check: check.compare in {"equal", "any-order"},
    run=_run,
    unfair=_unfair,
    by_hand=lambda cases: sum(case.by_hand for case in cases),
    settle=_settle,
    runs=lambda _: 1,
)
