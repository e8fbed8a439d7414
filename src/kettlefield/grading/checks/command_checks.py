"""Checks that run commands in a changed repository: its own ones, or hidden tests that are laid over it first."""

from collections.abc import Iterable
from pathlib import Path
from typing import Literal

import msgspec

from kettlefield.core.errors import InputError
from kettlefield.core.outcome import CheckResult, RunEnd
from kettlefield.grading.checks.kind import Bench, CheckKind
from kettlefield.grading.checks.programs import folded
from kettlefield.grading.command_run import CommandRun, run_command
from kettlefield.grading.prompt_words import MIN_BY_HAND, visible_values
from kettlefield.grading.results import Finding, make_result, show, stopped, tail_of, to_limits
from kettlefield.sandbox.job import RunLimits
from kettlefield.suite.check_form import TextReader, read_cases
from kettlefield.suite.format import Check, Exercise, Part, WorkspaceTable
from kettlefield.suite.workspace_files import read_tree


class CommandCheck(Check, frozen=True, kw_only=True, tag_field="kind", tag="command"):
    """Commands run in the changed files: output, exit status and written files out."""

    cases: str  # file beside exercise.toml: [{"run": "{python} desk.py list", "stdout": "...", "exit": 0}]
    hidden: str | None = None  # folder beside exercise.toml: files that are laid over the changed ones for this check
    whitespace: Literal["exact", "trailing", "folded"] = "trailing"  # which differences do not count


class CommandCase(Part, frozen=True, kw_only=True):
    """One command."""

    run: str  # a bash line; {python} stands for that language's program
    stdin: str = ""
    files: dict[str, str] = msgspec.field(default_factory=dict)  # laid over the changed ones
    stdout: str | None = None  # none: not looked at
    exit: int = 0
    writes: dict[str, str] = msgspec.field(default_factory=dict)  # files that it must leave
    by_hand: bool = False


class Order(msgspec.Struct, frozen=True, kw_only=True):
    """A case with what is laid over the changed files for it."""

    case: CommandCase
    files: dict[str, str]
    is_hidden: bool  # by tests that somebody wrote for the change


def _read(check: CommandCheck, folder: Path, read: TextReader) -> tuple[Order, ...]:
    hidden: dict[str, str] = {}
    if check.hidden is not None:
        if not (folder / check.hidden).is_dir():
            raise InputError("is missing", str(folder / check.hidden), "Put the hidden files there.")
        hidden = read_tree(folder / check.hidden, read)
    cases = read_cases(folder / check.cases, CommandCase, read)
    return tuple(Order(case=case, files={**hidden, **case.files}, is_hidden=check.hidden is not None) for case in cases)


def _run(bench: Bench, check: CommandCheck) -> CheckResult:
    """Build, where the workspace says how, then run the commands; each in a fresh copy of the changed files."""
    orders: tuple[Order, ...] = bench.exercise.cases[check.name]
    limits, table = to_limits(bench.exercise.spec.limits), bench.exercise.spec.workspace
    needs = table.needs if table is not None else ()
    unbuilt = _build_fault(bench, table, limits, needs)
    if unbuilt is not None:
        return make_result(check, unbuilt, len(orders), 0.0)
    agreed, worst, detail, feedback, wall_s, first_fault = 0, RunEnd.FINISHED, "", "", 0.0, 0
    numbered = sorted(enumerate(orders, 1), key=lambda numbered: numbered[0] != bench.effort.first.get(check.name))
    for number, order in numbered:
        case = order.case
        files = {**bench.files, **order.files}
        run = run_command(
            case.run, files, limits, bench.sandbox, stdin=case.stdin, exports=tuple(case.writes), needs=needs
        )
        wall_s += run.report.wall_s
        end, fault, told = _judge(run, case, check)
        agreed += not fault
        if fault and not detail:
            detail, feedback, first_fault = f"case {number}: {fault}", told, number
        if end is not RunEnd.FINISHED:
            worst = end
            break
        if fault and bench.effort.until == "case":
            break
    finding = Finding(end=worst, agreed=agreed, detail=detail, feedback=feedback, first_fault=first_fault)
    return make_result(check, finding, len(orders), wall_s)


def _build_fault(
    bench: Bench, table: WorkspaceTable | None, limits: RunLimits, needs: tuple[str, ...]
) -> Finding | None:
    if table is None or table.build is None:
        return None
    report = run_command(
        table.commands[table.build], bench.files, limits, bench.sandbox, needs=needs, joined=True
    ).report
    if report.exit_status == 0:
        return None
    end, words = stopped(report) or (RunEnd.NO_BUILD, tail_of(report))
    said = f"the command {table.build} fails: {words}"
    return Finding(end=end if end is RunEnd.RIG_FAULT else RunEnd.NO_BUILD, agreed=0, detail=said, feedback=said)


def _judge(run: CommandRun, case: CommandCase, check: CommandCheck) -> tuple[RunEnd, str, str]:
    """How it ended, what was wrong for the reader, and the same without what was expected."""
    stop = stopped(run.report)
    if stop is not None:
        return stop[0], f"{case.run}: {stop[1]}", stop[1]
    if run.report.exit_status != case.exit:
        status = f"exit status {run.report.exit_status}"
        tail = tail_of(run.report)
        return RunEnd.FINISHED, f"{case.run}: {status}, expected {case.exit}: {tail}", f"ended with {status}: {tail}"
    printed = run.report.stdout.decode("utf-8", errors="replace")
    if case.stdout is not None and folded(printed, check.whitespace) != folded(case.stdout, check.whitespace):
        said = f"printed {show(printed)}"
        return RunEnd.FINISHED, f"{case.run}: {said}, expected {show(case.stdout)}", f"{said}, which is wrong"
    for name, wanted in case.writes.items():
        text = run.writes.get(name, b"").decode("utf-8", errors="replace")
        if name not in run.writes or folded(text, check.whitespace) != folded(wanted, check.whitespace):
            left = f"left {show(text)} in {name}" if name in run.writes else f"left no file {name}"
            return RunEnd.FINISHED, f"{case.run}: {left}, expected {show(wanted)}", left
    return RunEnd.FINISHED, "", ""


def _unfair(exercise: Exercise, check: CommandCheck, said: str) -> Iterable[str]:
    orders: tuple[Order, ...] = exercise.cases[check.name]
    yield from visible_values(said, [order.case.stdout or "" for order in orders if not order.case.by_hand])


COMMAND = CheckKind(
    spec=CommandCheck,
    read=_read,
    run=_run,
    unfair=_unfair,
    # a file of tests holds many cases; one command is enough to run them
    by_hand=lambda orders: sum(order.case.by_hand * (MIN_BY_HAND if order.is_hidden else 1) for order in orders),
    needs_build=False,
    runs=lambda result: max(1, result.cases_total),
)
