"""Checks that run a whole program: input, arguments and files in; output, status and written files out."""

import json
import secrets
from dataclasses import dataclass, field

from kettlefield.core.outcome import RunEnd
from kettlefield.core.plaintext import shorten
from kettlefield.core.values import matches_whole, values_agree, words_agree
from kettlefield.grading.results import (
    DETAIL_LIMIT,
    CheckResult,
    Finding,
    frames_of,
    make_result,
    show,
    start_fault,
    stopped,
    tail_of,
    to_limits,
)
from kettlefield.sandbox.builds import Built
from kettlefield.sandbox.isolation import Isolation
from kettlefield.sandbox.job import RunLimits, RunReport, split_exports, with_files
from kettlefield.sandbox.runner import run_job
from kettlefield.suite.format import Exercise, ProgramCase, ProgramCheck


@dataclass(frozen=True, slots=True, kw_only=True)
class ProgramRun:
    """One run of a program with what it left behind."""

    report: RunReport
    end: RunEnd  # before anything is compared
    fault: str  # why it did not even end by itself; empty when it did
    writes: dict[str, bytes] = field(default_factory=dict)

    @property
    def stdout(self) -> str:
        """What it printed."""
        return self.report.stdout.decode("utf-8", errors="replace")


def run_case(
    case: ProgramCase, built: Built, limits: RunLimits, isolation: Isolation, exports: tuple[str, ...]
) -> ProgramRun:
    """Run a program on one case."""
    nonce = secrets.token_hex(16)
    job = built.job(nonce, case.stdin.encode(), case.args, limits)
    report = run_job(with_files(job, nonce, case.files, exports), isolation)
    head, writes = split_exports(report.results, nonce)
    fault = start_fault(frames_of(head, nonce)) or stopped(report)
    end, words = fault if fault is not None else (RunEnd.FINISHED, "")
    return ProgramRun(report=report, end=end, fault=words, writes=writes)


def run_program(exercise: Exercise, check: ProgramCheck, built: Built, isolation: Isolation) -> CheckResult:
    """Run the answer once a case; it stops at the first case that does not end by itself."""
    cases, limits = exercise.program_cases[check.name], to_limits(exercise.spec.limits)
    agreed, worst, detail, feedback, wall_s = 0, RunEnd.FINISHED, "", "", 0.0
    for number, case in enumerate(cases, 1):
        run = run_case(case, built, limits, isolation, tuple(case.writes))
        wall_s += run.report.wall_s
        end, fault, told = _judge(run, check, case, built)
        agreed += not fault
        if fault and not detail:
            detail = f"case {number}: {fault}"
            feedback = f"{_given(case)} it {told}"
        if end is not RunEnd.FINISHED:
            worst = end
            break
    return make_result(check, Finding(end=worst, agreed=agreed, detail=detail, feedback=feedback), len(cases), wall_s)


def _given(case: ProgramCase) -> str:
    parts = [f"the arguments {show(case.args)}"] if case.args else []
    parts += [f"the files {show(case.files)}"] if case.files else []
    parts += [f"the input {show(case.stdin)}"] if case.stdin or not parts else []
    return f"with {' and '.join(parts)}"


def _judge(run: ProgramRun, check: ProgramCheck, case: ProgramCase, built: Built) -> tuple[RunEnd, str, str]:
    """How it ended, what was wrong for the reader, and the same without what was expected."""
    if run.fault:
        return run.end, run.fault, f"failed: {run.fault}"
    if run.report.exit_status != case.exit:
        end = built.end_of(run.report) or (RunEnd.CRASHED if case.exit == 0 else RunEnd.FINISHED)
        found = f"exit status {run.report.exit_status}"
        tail = tail_of(run.report)
        return end, f"{found}, expected {case.exit}: {tail}", f"ended with {found}: {tail}"
    if case.stdout is not None and not _prints_agree(run.stdout, check, case.stdout):
        printed = f"printed {show(run.stdout)}"
        return RunEnd.FINISHED, f"{printed}, expected {show(case.stdout)}", f"{printed}, which is wrong"
    for name, wanted in case.writes.items():
        if name not in run.writes:
            return RunEnd.FINISHED, f"it left no file {name}", f"left no file {name}"
        text = run.writes[name].decode("utf-8", errors="replace")
        if not _files_agree(name, text, wanted, check):
            wrote = f"wrote {shorten(show(text), DETAIL_LIMIT)} into {name}"
            return RunEnd.FINISHED, f"{wrote}, expected {show(wanted)}", f"{wrote}, which is wrong"
    return RunEnd.FINISHED, "", ""


def _prints_agree(found: str, check: ProgramCheck, wanted: str) -> bool:
    if check.pattern:
        return matches_whole(wanted, found)
    if check.tolerance is not None:
        return words_agree(found, wanted, tolerance=check.tolerance)
    return _folded(found, check.whitespace) == _folded(wanted, check.whitespace)


def _files_agree(name: str, found: str, wanted: str, check: ProgramCheck) -> bool:
    """Data is compared as data, whatever its spaces and the order of its keys; anything else as what is printed."""
    if name.endswith(".json"):
        try:
            return values_agree(json.loads(found), json.loads(wanted), tolerance=check.tolerance)
        except (ValueError, RecursionError):
            return False
    return _prints_agree(found, check, wanted)


def _folded(text: str, mode: str) -> list[str]:
    text = text.replace("\r\n", "\n")
    if mode == "exact":
        return [text]
    if mode == "folded":
        return text.split()
    return "\n".join(line.rstrip() for line in text.split("\n")).rstrip("\n").split("\n")
