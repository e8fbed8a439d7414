"""Exit codes: a contract with other people's scripts."""

from __future__ import annotations

from enum import IntEnum

TYPE_CHECKING = False  # as typing has it: importing that takes half the time of `--help`

if TYPE_CHECKING:
    from kettlefield.core.acceptance import Verdict
    from kettlefield.core.errors import KettlefieldError


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
