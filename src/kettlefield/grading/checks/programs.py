"""Checks that run a whole program: input, arguments and files in; output, status and written files out."""

import json
import secrets
from collections.abc import Iterable
from pathlib import Path
from typing import Literal

import msgspec

from kettlefield.core.errors import InputError
from kettlefield.core.outcome import CheckResult, RunEnd
from kettlefield.core.plaintext import shorten, visible
from kettlefield.core.values import Likeness, matches_whole, values_agree, words_agree
from kettlefield.grading.builds import BuildFault, Built
from kettlefield.grading.checks.kind import Bench, CheckKind
from kettlefield.grading.prompt_words import unsaid, visible_values, without_json_words
from kettlefield.grading.results import (
    DETAIL_LIMIT,
    Finding,
    frames_of,
    make_result,
    show,
    start_fault,
    stopped,
    tail_of,
    to_limits,
)
from kettlefield.sandbox.job import RunLimits, RunReport, split_exports, with_files
from kettlefield.sandbox.runner import Sandbox
from kettlefield.suite.check_form import TextReader, read_cases
from kettlefield.suite.format import Check, Exercise, Part

# the sanitisers' own documentation speaks of a slowdown of two and a threefold memory; the race detector takes more
_SLOWER, _LARGER = 6, 4


class ProgramCheck(Check, frozen=True, kw_only=True, tag_field="kind", tag="program"):
    """A whole program: standard input, arguments and files in; output, exit status and written files out."""

    cases: str  # file beside exercise.toml: [{"stdin": "...", "stdout": "...", "exit": 0}]
    whitespace: Literal["exact", "trailing", "folded"] = "trailing"  # which differences do not count
    computed_words: bool = False  # as above
    pattern: bool = False  # what is expected is a regular expression for the whole output
    driver: str | None = None  # a program of the exercise's own, beside exercise.toml, in the place of the main file
    sanitise: bool | None = None  # run all cases built with the sanitiser too; none: as the language has it
    tolerance: float | None = None  # words that are numbers may differ by this much; white space is folded then


class ProgramCase(Part, frozen=True, kw_only=True):
    """One run of a program."""

    stdin: str = ""
    args: tuple[str, ...] = ()
    files: dict[str, str] = msgspec.field(default_factory=dict)  # laid into its folder, where it may change them
    stdout: str | None = None  # none: not looked at
    exit: int = 0
    writes: dict[str, str] = msgspec.field(
        default_factory=dict
    )  # files that it must leave; *.json are compared as data
    by_hand: bool = False


class ProgramRun(msgspec.Struct, frozen=True, kw_only=True):
    """One run of a program with what it left behind."""

    report: RunReport
    end: RunEnd  # before anything is compared
    fault: str  # why it did not even end by itself; empty when it did
    writes: dict[str, bytes] = msgspec.field(default_factory=dict)

    @property
    def stdout(self) -> str:
        """What it printed."""
        return self.report.stdout.decode("utf-8", errors="replace")


def run_case(
    case: ProgramCase, built: Built, limits: RunLimits, sandbox: Sandbox, exports: tuple[str, ...]
) -> ProgramRun:
    """Run a program on one case."""
    nonce = secrets.token_hex(16)
    job = built.job(nonce, case.stdin.encode(), case.args, limits)
    report = sandbox.run(with_files(job, nonce, case.files, exports))
    head, writes = split_exports(report.results, nonce)
    fault = start_fault(frames_of(head, nonce)) or stopped(report)
    end, words = fault if fault is not None else (RunEnd.FINISHED, "")
    return ProgramRun(report=report, end=end, fault=words, writes=writes)


def _run(bench: Bench, check: ProgramCheck) -> CheckResult:
    """Run the answer once a case; it stops at the first case that does not end by itself."""
    cases: tuple[ProgramCase, ...] = bench.exercise.cases[check.name]
    built = _what_runs(bench, check)
    if isinstance(built, BuildFault):
        said = f"with {check.driver} in the place of {bench.main}: {built.message}"
        failed = Finding(end=built.end, agreed=0, detail=said, feedback=said)
        return make_result(check, failed, len(cases), built.wall_s)
    limits = to_limits(bench.exercise.spec.limits)
    agreed, worst, detail, feedback, wall_s, first_fault = 0, RunEnd.FINISHED, "", "", 0.0, 0
    numbered = sorted(enumerate(cases, 1), key=lambda numbered: numbered[0] != bench.effort.first.get(check.name))
    for number, case in numbered:
        run = run_case(case, built, limits, bench.sandbox, tuple(case.writes))
        wall_s += run.report.wall_s
        end, fault, told = _judge(run, check, case, built)
        if end is RunEnd.RIG_FAULT and detail:
            break  # an earlier case failed for certain: what the rig could not run does not make it undecided
        agreed += not fault
        if fault and not detail:
            detail = f"case {number}: {fault}"
            feedback = f"{_given(case)} it {told}"
            first_fault = number
        if end is not RunEnd.FINISHED:
            worst = end
            break
        if fault and bench.effort.until == "case":
            break
    if agreed == len(cases):
        detail = feedback = _misdeed(bench, check, built, cases)
        agreed -= bool(detail)
    finding = Finding(end=worst, agreed=agreed, detail=detail, feedback=feedback, first_fault=first_fault)
    return make_result(check, finding, len(cases), wall_s)


def _what_runs(bench: Bench, check: ProgramCheck) -> Built | BuildFault:
    """The answer; or, to try its other files by themselves, those with our program in the place of the main one."""
    if check.driver is None:
        return bench.built
    return bench.build_again({**bench.built.texts, bench.main: bench.exercise.scripts[check.driver]})


def _misdeed(bench: Bench, check: ProgramCheck, built: Built, cases: tuple[ProgramCase, ...]) -> str:
    """What the sanitiser says of a program whose output is right; empty when it has nothing to say.

    Only its own words count: a sanitised program is slower and larger, so its limits are wider, and what becomes of
    it otherwise says nothing.
    """
    recipe = built.language.recipe
    sanitiser = recipe.sanitiser if recipe is not None else None
    if (
        sanitiser is None
        or not bench.effort.sanitised
        or not (sanitiser.by_default if check.sanitise is None else check.sanitise)
    ):
        return ""
    again = bench.build_again(built.texts, sanitised=True)
    if isinstance(again, BuildFault):
        return ""
    limits = to_limits(bench.exercise.spec.limits)
    wide = msgspec.structs.replace(
        limits,
        wall_s=limits.wall_s * _SLOWER,
        cpu_s=limits.cpu_s * _SLOWER,
        memory_bytes=limits.memory_bytes * _LARGER,
    )
    for number, case in enumerate(cases, 1):
        report = run_case(case, again, wide, bench.sandbox, ()).report
        said = sanitiser.report.search(report.stderr.decode("utf-8", errors="replace"))
        if said is not None:
            words = shorten(visible(said[0], keep_lines=False), DETAIL_LIMIT)
            return f"case {number}, built with the sanitiser: {words}"
    return ""


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
        status = f"exit status {run.report.exit_status}"
        tail = tail_of(run.report)
        return end, f"{status}, expected {case.exit}: {tail}", f"ended with {status}: {tail}"
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


def _prints_agree(printed: str, check: ProgramCheck, wanted: str) -> bool:
    if check.pattern:
        return matches_whole(wanted, printed)
    if check.tolerance is not None:
        return words_agree(printed, wanted, tolerance=check.tolerance)
    return folded(printed, check.whitespace) == folded(wanted, check.whitespace)


def _files_agree(name: str, text: str, wanted: str, check: ProgramCheck) -> bool:
    """Data is compared as data, whatever its spaces and the order of its keys; anything else as what is printed."""
    if name.endswith(".json"):
        try:
            return values_agree(json.loads(text), json.loads(wanted), Likeness(tolerance=check.tolerance))
        except (ValueError, RecursionError):
            return False
    return _prints_agree(text, check, wanted)


def folded(text: str, mode: str) -> list[str]:
    """Output with the white space taken out that does not count."""
    text = text.replace("\r\n", "\n")
    if mode == "exact":
        return [text]
    if mode == "folded":
        return text.split()
    return "\n".join(line.rstrip() for line in text.split("\n")).rstrip("\n").split("\n")


def read_program_cases(check: Check, folder: Path, read: TextReader) -> tuple[ProgramCase, ...]:
    """The cases of a check that runs the answer as a program: its ``cases`` names the file."""
    return read_cases(folder / str(getattr(check, "cases")), ProgramCase, read)  # noqa: B009 - of several kinds


def count_by_hand(cases: tuple[ProgramCase, ...]) -> int:
    """How many cases were worked from the prompt by hand."""
    return sum(case.by_hand for case in cases)


def _unfair(exercise: Exercise, check: ProgramCheck, said: str) -> Iterable[str]:
    cases: tuple[ProgramCase, ...] = exercise.cases[check.name]
    for name in sorted({name for case in cases for name in (*case.files, *case.writes)}):
        if name not in said and not any(name in word for case in cases for word in case.args):
            yield f'the prompt never names the file "{name}"'
    if not check.pattern and not check.computed_words:
        yield from unsaid(said, ((_put_in(case), _left(case)) for case in cases))
    yield from visible_values(said, [case.stdout or "" for case in cases if not case.by_hand])


def _put_in(case: ProgramCase) -> str:
    return "\n".join([case.stdin, *case.args, *case.files.values(), *case.files])


def _left(case: ProgramCase) -> str:
    written = "\n".join(case.writes.values())
    return f"{case.stdout or ''}\n" + without_json_words(written)


def _settle(bench: Bench, check: ProgramCheck) -> tuple[ProgramCase, ...]:
    """The check's cases with what the own answer prints and writes as their expectation."""
    limits = to_limits(bench.exercise.spec.limits)
    cases = []
    built = _what_runs(bench, check)
    if isinstance(built, BuildFault):
        raise InputError(f"its own answer does not build: {built.message}", bench.exercise.id, "Correct it.")
    for case in bench.exercise.cases[check.name]:
        run = run_case(case, built, limits, bench.sandbox, tuple(case.writes))
        if run.fault:
            raise InputError(f"its own answer fails on a variant: {run.fault}", bench.exercise.id, "Correct it.")
        writes = {name: run.writes[name].decode("utf-8", errors="replace") for name in case.writes}
        printed = run.stdout if case.stdout is not None else None
        status = run.report.exit_status or 0
        cases.append(msgspec.structs.replace(case, stdout=printed, exit=status, writes=writes, by_hand=False))
    return tuple(cases)


PROGRAM = CheckKind(
    spec=ProgramCheck,
    read=read_program_cases,
    scripts=lambda check: () if check.driver is None else (check.driver,),
    one_value=lambda check: not check.pattern,
    run=_run,
    unfair=_unfair,
    by_hand=count_by_hand,
    settle=_settle,
    runs=lambda result: max(1, result.cases_total),
)
