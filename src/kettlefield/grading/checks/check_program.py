"""Checks by the exercise's own program: isolated from the answer's run, it reads what the answer left and speaks TAP.

Source
------
The TAP 14 specification: a version line, a plan, test points with optional SKIP and TODO directives,
YAML diagnostics, subtests indented by four spaces, and "Bail out!".
"""

import json
import re

import msgspec

from kettlefield.core.errors import RigError
from kettlefield.core.outcome import CheckResult, RunEnd
from kettlefield.core.plaintext import shorten
from kettlefield.grading.checks.kind import Bench, CheckKind
from kettlefield.grading.checks.programs import count_by_hand, read_program_cases, run_case
from kettlefield.grading.results import DETAIL_LIMIT, Finding, make_result, stopped, tail_of, to_limits
from kettlefield.languages.all_languages import find_toolchain
from kettlefield.languages.language import Missing
from kettlefield.languages.python import FLAGS
from kettlefield.sandbox.job import Job, RunLimits, RunReport
from kettlefield.suite.format import Check


class ScriptCheck(Check, frozen=True, kw_only=True, tag_field="kind", tag="script"):
    """The exercise's own check program, shut in by itself; it sees what the answer left and speaks TAP 14."""

    script: str  # Python file beside exercise.toml
    cases: str  # program cases; what they expect is for the script to say


_PLAN = re.compile(r"1\.\.(\d{1,9})(?:\s*#.*)?$")
_POINT = re.compile(
    r"(?P<not>not )?ok\b(?:[ \t]+(?P<number>\d{1,9}))?(?:[ \t]*-?[ \t]*(?P<words>(?:[^#\\]|\\.)*))?(?P<directive>#.*)?$"
)
_BAIL = re.compile(r"Bail out!\s*(?P<why>.*)$", re.IGNORECASE)


class TapPoint(msgspec.Struct, frozen=True, kw_only=True):
    """One test point at the top level."""

    number: int
    passed: bool  # a point marked TODO or SKIP does not fail
    words: str
    message: str = ""  # of its diagnostics


class TapReport(msgspec.Struct, frozen=True, kw_only=True):
    """A whole report; ``fault`` says why it cannot be trusted."""

    points: tuple[TapPoint, ...]
    fault: str | None = None


def parse_tap(text: str) -> TapReport:
    """Read a report; it counts only when it has a plan that its points fulfil and was not bailed out of.

    Parameters
    ----------
    text : str
        What the check program printed.
    """
    points: list[TapPoint] = []
    planned: int | None = None
    lines = text.replace("\r\n", "\n").split("\n")
    if not lines[0].startswith("TAP version 1"):
        return TapReport(points=(), fault='the first line is not "TAP version 14"')
    for line in lines[1:]:
        if (bail := _BAIL.match(line)) is not None:
            return TapReport(points=tuple(points), fault=f"bailed out: {bail['why'].strip() or 'no reason given'}")
        if (plan := _PLAN.match(line)) is not None:
            if planned is not None:
                return TapReport(points=tuple(points), fault="it has two plans")
            planned = int(plan[1])
        elif (point := _POINT.match(line)) is not None:
            points.append(_point(point, len(points) + 1))
        elif points and (said := re.match(r"\s{2,}message:\s*(.*)$", line)) is not None:
            last = points[-1]
            points[-1] = TapPoint(
                number=last.number, passed=last.passed, words=last.words, message=said[1].strip("\"' ")
            )
    if planned is None:
        return TapReport(points=tuple(points), fault="it has no plan")
    if sorted(point.number for point in points) != list(range(1, planned + 1)):
        return TapReport(points=tuple(points), fault=f"{planned} points planned, {len(points)} found")
    return TapReport(points=tuple(points))


def _point(match: "re.Match[str]", following: int) -> TapPoint:
    directive = (match["directive"] or "").lstrip("# ").upper()
    return TapPoint(
        number=int(match["number"]) if match["number"] else following,
        passed=match["not"] is None or directive.startswith(("TODO", "SKIP")),
        words=re.sub(r"\\(.)", r"\1", (match["words"] or "").strip()),
    )


SCRIPT_LIMITS = RunLimits(wall_s=20, cpu_s=15, memory_bytes=2**30, output_bytes=32 * 2**20)


def run_tool(bench: Bench, name: str, args: tuple[str, ...], extra: dict[str, str] | None = None) -> RunReport:
    """Run a Python program of the exercise's own; suites may be hostile too, so it is shut in like an answer.

    Raises
    ------
    RigError
        There is no Python to run it.
    """
    toolchain = find_toolchain("python")
    if isinstance(toolchain, Missing):
        raise RigError("Python is not found", bench.exercise.id, f"Install it: {toolchain.remedy}.")
    job = Job(
        argv=(toolchain.program, *FLAGS, name, *args),
        limits=SCRIPT_LIMITS,
        files={name: bench.exercise.scripts[name], **(extra or {})},
        mounts=toolchain.mounts,
        result_fd=False,
    )
    return bench.run(job)


def _run(bench: Bench, check: ScriptCheck) -> CheckResult:
    """Run the answer on every case, then the exercise's program over what all of them left.

    The program finds ``answer/`` with the answer's files and ``runs.json``: a list with the input, output,
    errors, exit status and written files of each run. A report that cannot be trusted is a fault of ours.
    """
    cases, limits = bench.exercise.cases[check.name], to_limits(bench.exercise.spec.limits)
    runs, wall_s = [], 0.0
    for number, case in enumerate(cases, 1):
        run = run_case(case, bench.built, limits, bench.sandbox, tuple(case.writes))
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
    sources = {f"answer/{name}": text for name, text in bench.built.texts.items()}
    report = run_tool(bench, check.script, (), {"runs.json": json.dumps(runs), **sources})
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


SCRIPT = CheckKind(
    spec=ScriptCheck,
    read=read_program_cases,
    scripts=lambda check: (check.script,),
    run=_run,
    by_hand=count_by_hand,
)
