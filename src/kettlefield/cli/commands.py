"""The commands in the order of the work, and the exit codes: contracts with other people's scripts."""

from __future__ import annotations

from enum import IntEnum

TYPE_CHECKING = False  # as typing has it: importing that takes half the time of `--help`
if TYPE_CHECKING:
    from kettlefield.core.acceptance import Verdict
    from kettlefield.core.errors import KettlefieldError

COMMANDS = {
    "try": "a first look: from weights and a server's command to one table, in minutes",
    "rig": "what this machine is, and what is missing",
    "weigh": "what weights files are, what memory they need, what fits",
    "draft": "draft a plan from weights files",
    "suite": "begin a suite of your own, add to it, list what a suite holds",
    "vet": "prove that a suite's answers pass and its decoys fail",
    "calibrate": "the instruments' own error on this machine",
    "qualify": "run a plan's campaign, or resume it",
    "compare": "candidates side by side; or an old record and a new one",
    "trials": "list trials, or open one: prompt, reply, files, checks, timings",
    "mark": "mark replies by hand, blind; in the terminal or on a sheet",
    "judge": "let a second model mark replies, and measure how far to trust it",
    "decide": "evaluate a record against its plan's criteria; sign; is it still valid?",
    "records": "list a database's campaigns; copy one between a database and a file",
    "report": "one page with verdict, criteria, levels, correctness, speed, memory, evidence",
    "export": "hand a record on: CSV, Parquet, JUnit-style XML, CycloneDX",
    "demo": "run a full example: on made-up models, or --real on a real little one",
}


class ExitCode(IntEnum):
    """What the program's end says."""

    DONE = 0  # for decide: approved
    REJECTED = 1  # decide: rejected; vet: the suite has a fault
    BAD_INPUT = 2  # bad usage or bad input
    NOT_MEASURED = 3  # a server or the rig failed so that something could not be measured
    UNDECIDED = 4  # decide: undecided
    INTERRUPTED = 130  # all finished trials are kept; the same command resumes


def exit_code_of(verdict: Verdict) -> ExitCode:
    """What ``decide`` ends with."""
    from kettlefield.core.acceptance import Verdict  # noqa: PLC0415 - `--help` is to be quick

    codes = {Verdict.APPROVED: ExitCode.DONE, Verdict.REJECTED: ExitCode.REJECTED}
    return codes.get(verdict, ExitCode.UNDECIDED)


def exit_code_for(err: KettlefieldError) -> ExitCode:
    """2 for what the user gave, 3 for what failed here."""
    from kettlefield.core.errors import InputError  # noqa: PLC0415

    return ExitCode.BAD_INPUT if isinstance(err, InputError) else ExitCode.NOT_MEASURED
