"""One check carried out: the answer goes in with inputs only, what comes back is compared out here."""

import json
import secrets
from dataclasses import dataclass
from typing import Any

from kettlefield.core.agreement import same_items, values_agree, words_agree
from kettlefield.core.outcome import RunEnd
from kettlefield.core.plaintext import last_lines, shorten
from kettlefield.rig.toolchains import Toolchain
from kettlefield.sandbox.building import BuildFault, Built
from kettlefield.sandbox.isolation import Isolation
from kettlefield.sandbox.job import RunLimits, RunReport
from kettlefield.sandbox.languages import calls_job
from kettlefield.sandbox.runner import run_job
from kettlefield.suite.format import CallCase, CallsCheck, Exercise, Limits, ProgramCase, ProgramCheck

DETAIL_LIMIT = 600  # characters of a value or message kept for the reader


@dataclass(frozen=True, slots=True, kw_only=True)
class CheckResult:
    """What one check found."""

    name: str
    kind: str
    required: bool
    weight: float
    passed: bool
    end: RunEnd
    cases_passed: int
    cases_total: int
    detail: str  # the first fault in words, for the reader; empty when passed
    feedback: str  # the same without expected values, for a repair turn
    wall_s: float  # running the answer, all cases


@dataclass(frozen=True, slots=True, kw_only=True)
class _Finding:
    """What a run says of all cases: how it ended, how many agreed, the first fault."""

    end: RunEnd
    agreed: int
    detail: str
    feedback: str


def to_limits(limits: Limits) -> RunLimits:
    """An exercise's limits in base units."""
    return RunLimits(wall_s=limits.wall, cpu_s=limits.cpu, memory_bytes=limits.memory, output_bytes=limits.output)


def run_calls(
    exercise: Exercise, check: CallsCheck, files: dict[str, str], toolchain: Toolchain, isolation: Isolation
) -> CheckResult:
    """Call the answer's function once a case, all in one process."""
    cases = exercise.call_cases[check.name]
    nonce = secrets.token_hex(16)
    job = {
        "nonce": nonce,
        "file": exercise.spec.file,
        "function": check.function,
        "cases": [c.args for c in cases],
    }
    limits = to_limits(exercise.spec.limits)
    report = run_job(calls_job(toolchain, files, json.dumps(job).encode(), limits), isolation)
    finding = _read_calls(report, nonce, check, cases)
    return _result(check, finding, len(cases), report.wall_s)


def run_program(exercise: Exercise, check: ProgramCheck, built: Built, isolation: Isolation) -> CheckResult:
    """Run the answer once a case; it stops at the first case that does not end by itself."""
    cases, limits = exercise.program_cases[check.name], to_limits(exercise.spec.limits)
    agreed, worst, detail, feedback, wall_s = 0, RunEnd.FINISHED, "", "", 0.0
    for number, case in enumerate(cases, 1):
        nonce = secrets.token_hex(16)
        report = run_job(built.job(nonce, case.stdin.encode(), case.args, limits), isolation)
        wall_s += report.wall_s
        end, fault, told = _read_program(report, nonce, check, case, built)
        agreed += not fault
        if fault and not detail:
            detail = f"case {number}: {fault}"
            given = f"with the arguments {_show(case.args)} and " if case.args else "with "
            feedback = f"{given}the input {_show(case.stdin)} it {told}"
        if end is not RunEnd.FINISHED:
            worst = end
            break
    return _result(check, _Finding(end=worst, agreed=agreed, detail=detail, feedback=feedback), len(cases), wall_s)


def unbuilt(exercise: Exercise, check: CallsCheck | ProgramCheck, fault: BuildFault) -> CheckResult:
    """A check that could not be carried out because the answer does not build."""
    cases = exercise.call_cases.get(check.name) or exercise.program_cases.get(check.name) or ()
    finding = _Finding(end=fault.end, agreed=0, detail=fault.words, feedback=fault.words)
    return _result(check, finding, len(cases), fault.wall_s)


def _result(check: CallsCheck | ProgramCheck, finding: _Finding, total: int, wall_s: float) -> CheckResult:
    return CheckResult(
        name=check.name,
        kind="calls" if isinstance(check, CallsCheck) else "program",
        required=check.required,
        weight=check.weight,
        passed=finding.end is RunEnd.FINISHED and finding.agreed == total,
        end=finding.end,
        cases_passed=finding.agreed,
        cases_total=total,
        detail=finding.detail,
        feedback=finding.feedback,
        wall_s=wall_s,
    )


def _frames(report: RunReport, nonce: str) -> list[dict[str, Any]]:
    """Frames with our nonce; anything else on the descriptor was written by somebody else."""
    frames = []
    mark = f"{nonce} ".encode()
    for line in report.results.split(b"\n"):
        if line.startswith(mark):
            try:
                frame = json.loads(line[len(mark) :])
            except (ValueError, RecursionError):
                continue
            if isinstance(frame, dict):
                frames.append(frame)
    return frames


def _stopped(report: RunReport) -> tuple[RunEnd, str] | None:
    """How the run was stopped from outside, if it was."""
    if report.rig_fault is not None:
        return RunEnd.RIG_FAULT, report.rig_fault
    if report.timed_out:
        return RunEnd.TIMED_OUT, f"still running after {report.wall_s:.1f} s"
    if report.over_limit is not None:
        return RunEnd.OVER_LIMIT, report.over_limit
    return None


def _start_fault(frames: list[dict[str, Any]]) -> tuple[RunEnd, str] | None:
    """Why the answer could not be built or loaded, if it could not."""
    for frame in frames:
        if "build" in frame:
            return RunEnd.NO_BUILD, _words(frame["build"])
        if "load" in frame:
            return _error_end(frame["load"]), _words(frame["load"])
    return None


def _error_end(error: dict[str, Any]) -> RunEnd:
    if "module" in error:
        return RunEnd.MISSING_MODULE
    return RunEnd.OVER_LIMIT if "limit" in error else RunEnd.CRASHED


def _words(error: dict[str, Any]) -> str:
    line = error.get("line")
    at = f" (line {line})" if line else ""
    return shorten(f"{error.get('type')}: {error.get('message')}{at}", DETAIL_LIMIT)


def _read_calls(report: RunReport, nonce: str, check: CallsCheck, cases: tuple[CallCase, ...]) -> _Finding:
    frames = _frames(report, nonce)
    fault = _start_fault(frames)
    if fault is not None:
        return _Finding(end=fault[0], agreed=0, detail=fault[1], feedback=fault[1])
    by_case = {frame["case"]: frame for frame in frames if isinstance(frame.get("case"), int)}
    agreed, end, detail, feedback = 0, RunEnd.FINISHED, "", ""
    for number, case in enumerate(cases):
        frame = by_case.get(number)
        if frame is None:
            stop = _stopped(report) or (RunEnd.CRASHED, f"ended in mid-run: {_tail(report)}")
            said = f"{_call(check, case)}: {stop[1]}"
            return _Finding(end=stop[0], agreed=agreed, detail=f"case {number + 1}: {said}", feedback=feedback or said)
        if "error" in frame:
            if end is RunEnd.FINISHED:
                end = _error_end(frame["error"])
            said = told = f"{_call(check, case)} raised {_words(frame['error'])}"
        elif _agrees(_numbers(frame.get("value")), check, case):
            agreed += 1
            continue
        else:
            told = f"{_call(check, case)} gave {_show(frame.get('value'))}, which is wrong"
            said = f"{_call(check, case)} gave {_show(frame.get('value'))}, expected {_show(case.expect)}"
        detail, feedback = detail or f"case {number + 1}: {said}", feedback or told
    return _Finding(end=end, agreed=agreed, detail=detail, feedback=feedback)


def _read_program(
    report: RunReport, nonce: str, check: ProgramCheck, case: ProgramCase, built: Built
) -> tuple[RunEnd, str, str]:
    """How it ended, what was wrong for the reader, and the same without what was expected."""
    fault = _start_fault(_frames(report, nonce)) or _stopped(report)
    if fault is not None:
        return fault[0], fault[1], f"failed: {fault[1]}"
    if report.exit_status != case.exit:
        end = built.end_of(report) or (RunEnd.CRASHED if case.exit == 0 else RunEnd.FINISHED)
        found = f"exit status {report.exit_status}"
        return end, f"{found}, expected {case.exit}: {_tail(report)}", f"ended with {found}: {_tail(report)}"
    found = report.stdout.decode("utf-8", errors="replace")
    if not _prints_agree(found, check, case):
        printed = f"printed {_show(found)}"
        return RunEnd.FINISHED, f"{printed}, expected {_show(case.stdout)}", f"{printed}, which is wrong"
    return RunEnd.FINISHED, "", ""


def _folded(text: str, mode: str) -> list[str]:
    text = text.replace("\r\n", "\n")
    if mode == "exact":
        return [text]
    if mode == "folded":
        return text.split()
    return "\n".join(line.rstrip() for line in text.split("\n")).rstrip("\n").split("\n")


def _agrees(found: Any, check: CallsCheck, case: CallCase) -> bool:
    compare = same_items if check.unordered else values_agree
    return compare(found, case.expect, tolerance=check.tolerance)


def _prints_agree(found: str, check: ProgramCheck, case: ProgramCase) -> bool:
    if check.tolerance is not None:
        return words_agree(found, case.stdout, tolerance=check.tolerance)
    return _folded(found, check.whitespace) == _folded(case.stdout, check.whitespace)


def _numbers(value: Any) -> Any:
    """The harness writes numbers that JSON lacks as {"$number": "NaN"}."""
    if isinstance(value, dict):
        if value.keys() == {"$number"}:
            return float(str(value["$number"]).replace("Infinity", "inf"))
        return {key: _numbers(item) for key, item in value.items()}
    return [_numbers(item) for item in value] if isinstance(value, list) else value


def _call(check: CallsCheck, case: CallCase) -> str:
    return f"{check.function}({shorten(', '.join(_show(arg) for arg in case.args), DETAIL_LIMIT)})"


def _show(value: Any) -> str:
    return shorten(json.dumps(value, ensure_ascii=False), DETAIL_LIMIT)


def _tail(report: RunReport) -> str:
    tail = last_lines(report.stderr.decode("utf-8", errors="replace"), 3)
    return shorten(tail, DETAIL_LIMIT) if tail else f"exit status {report.exit_status}, nothing on standard error"
