"""Exit codes: a contract with other people's scripts."""

from enum import IntEnum

from kettlefield.core.acceptance import Verdict
from kettlefield.core.errors import InputError, KettlefieldError


class ExitCode(IntEnum):
    """What the program's end says."""

    DONE = 0  # for decide: approved
    REJECTED = 1  # decide: rejected; vet: the suite has a fault
    BAD_INPUT = 2  # bad usage or bad input
    NOT_MEASURED = 3  # a server or the rig failed so that something could not be measured
    UNDECIDED = 4  # decide: undecided
    INTERRUPTED = 130  # all finished trials are kept; the same command resumes


OF_VERDICT = {
    Verdict.APPROVED: ExitCode.DONE,
    Verdict.REJECTED: ExitCode.REJECTED,
    Verdict.UNDECIDED: ExitCode.UNDECIDED,
}


def exit_code_for(err: KettlefieldError) -> ExitCode:
    """2 for what the user gave, 3 for what failed here."""
    return ExitCode.BAD_INPUT if isinstance(err, InputError) else ExitCode.NOT_MEASURED
