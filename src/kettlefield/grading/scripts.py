"""Checks by the exercise's own program: shut in by itself, it sees what the answer left and speaks TAP."""

import json

from kettlefield.core.errors import RigError
from kettlefield.core.outcome import RunEnd
from kettlefield.core.plaintext import shorten
from kettlefield.core.tap import parse_tap
from kettlefield.grading.harness_frames import DETAIL_LIMIT
from kettlefield.grading.programs import run_case
from kettlefield.grading.results import CheckResult, Finding, make_result, stopped, tail_of, to_limits
from kettlefield.rig.toolchains import Missing, find_toolchain
from kettlefield.sandbox.building import Built
from kettlefield.sandbox.isolation import Isolation
from kettlefield.sandbox.job import RunLimits, RunReport
from kettlefield.sandbox.languages import tool_job
from kettlefield.sandbox.runner import run_job
from kettlefield.suite.format import Exercise, ScriptCheck

SCRIPT_LIMITS = RunLimits(wall_s=20, cpu_s=15, memory_bytes=2**30, output_bytes=32 * 2**20)


def run_tool(
    exercise: Exercise, name: str, words: tuple[str, ...], isolation: Isolation, extra: dict[str, str] | None = None
) -> RunReport:
    """Run a Python program of the exercise's own; suites may be hostile too, so it is shut in like an answer.

    Raises
    ------
    RigError
        There is no Python to run it.
    """
    toolchain = find_toolchain("python")
    if isinstance(toolchain, Missing):
        raise RigError("Python is not found", exercise.id, f"Install it: {toolchain.remedy}.")
    job = tool_job(toolchain, {name: exercise.scripts[name], **(extra or {})}, (name, *words), SCRIPT_LIMITS)
    return run_job(job, isolation)


def run_script(exercise: Exercise, check: ScriptCheck, built: Built, isolation: Isolation) -> CheckResult:
    """Run the answer on every case, then the exercise's program over what all of them left.

    The program finds ``answer/`` with the answer's files and ``runs.json``: a list with the input, output,
    errors, exit status and written files of each run. A report that cannot be trusted is a fault of ours.
    """
    cases, limits = exercise.program_cases[check.name], to_limits(exercise.spec.limits)
    runs, wall_s = [], 0.0
    for number, case in enumerate(cases, 1):
        run = run_case(case, built, limits, isolation, tuple(case.writes))
        wall_s += run.report.wall_s
        if run.fault:
            said = f"case {number}: {run.fault}"
            return make_result(check, Finding(end=run.end, agreed=0, detail=said, feedback=said), len(cases), wall_s)
        runs.append(
            {
                "stdin": case.stdin,
                "args": case.args,
                "files": case.files,
                "stdout": run.stdout,
                "stderr": run.report.stderr.decode("utf-8", errors="replace"),
                "exit": run.report.exit_status,
                "writes": {name: data.decode("utf-8", errors="replace") for name, data in run.writes.items()},
            }
        )
    sources = {f"answer/{name}": text for name, text in built.files.items() if isinstance(text, str)}
    report = run_tool(exercise, check.script, (), isolation, {"runs.json": json.dumps(runs), **sources})
    return make_result(check, *_read(report), wall_s)


def _read(report: RunReport) -> tuple[Finding, int]:
    stop = stopped(report)
    tap = parse_tap(report.stdout.decode("utf-8", errors="replace"))
    fault = stop[1] if stop is not None else tap.fault
    if fault is not None:
        words = f"the exercise's check program cannot be trusted: {fault}; {tail_of(report)}"
        return Finding(end=RunEnd.RIG_FAULT, agreed=0, detail=shorten(words, DETAIL_LIMIT)), len(tap.points)
    failed = [point for point in tap.points if not point.passed]
    said = "; ".join(point.words + (f" ({point.message})" if point.message else "") for point in failed)
    # a point's words say what is wrong, and the message may hold what was expected
    told = "; ".join(point.words for point in failed)
    finding = Finding(
        end=RunEnd.FINISHED,
        agreed=len(tap.points) - len(failed),
        detail=shorten(said, DETAIL_LIMIT),
        feedback=shorten(told, DETAIL_LIMIT),
    )
    return finding, len(tap.points)
