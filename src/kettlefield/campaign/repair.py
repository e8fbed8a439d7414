"""Repair turns: what is sent back after a failed attempt. The real error, trimmed, and never what was expected."""

from kettlefield.core.outcome import Outcome
from kettlefield.core.plaintext import shorten
from kettlefield.grading.grader import Grade

# a model can mend these when it is told of them; a refusal, a loop or a fault of ours it cannot
REPAIRABLE = frozenset(
    {
        Outcome.WRONG_ANSWER,
        Outcome.CRASHED,
        Outcome.NO_BUILD,
        Outcome.MISSING_MODULE,
        Outcome.WRONG_LANGUAGE,
        Outcome.NO_CODE,
        Outcome.TIMED_OUT,
        Outcome.OVER_LIMIT,
    }
)
ERROR_CHARS = 1500  # of the error that goes back

_OPENING = {
    Outcome.WRONG_ANSWER: "The code runs, but its result is wrong",
    Outcome.CRASHED: "The code fails when it runs",
    Outcome.NO_BUILD: "The code does not build",
    Outcome.MISSING_MODULE: "The code needs a package that is not there; only what the environment names may be used",
    Outcome.WRONG_LANGUAGE: "The code is not in the language that was asked for",
    Outcome.NO_CODE: "The reply holds no code block with the program",
    Outcome.TIMED_OUT: "The code does not end in time",
    Outcome.OVER_LIMIT: "The code uses more than it may",
}


def repair_words(grade: Grade) -> str:
    """What is said after a failed attempt."""
    error = next((check.feedback for check in grade.checks if check.required and check.feedback), "")
    told = f"{_OPENING[grade.outcome]}{': ' if error else '.'}{shorten(error, ERROR_CHARS)}"
    return f"{told}\n\nCorrect it and reply with the complete code in one code block."
