"""The class a trial ends in: one pure function over the facts, and the order in which facts weigh."""

import re
from enum import StrEnum

import msgspec


class Outcome(StrEnum):
    """How a trial ended; the meaning of each in one line."""

    PASSED = "passed"  # all required checks pass
    WRONG_ANSWER = "wrong-answer"  # it ran, and a required check failed
    CRASHED = "crashed"  # it ran, and ended by an error of its own
    NO_BUILD = "no-build"  # it does not parse or compile, or lacks the asked-for entry
    MISSING_MODULE = "missing-module"  # it needs a package that the prompt did not grant
    WRONG_LANGUAGE = "wrong-language"  # it is code, in another language than asked for
    NO_CODE = "no-code"  # the reply holds no program
    OVER_CONTEXT = "over-context"  # the prompt does not fit the context that the candidate is configured with
    CUT_OFF = "cut-off"  # the token cap or the context ended the reply, and it mattered
    LOOPING = "looping"  # the reply repeats itself until it is stopped; in a workspace, the same call three times
    GAVE_UP = "gave-up"  # in a workspace: it ended without finish, and nothing was changed
    OVER_TURNS = "over-turns"  # in a workspace: it used up its turns, calls, tokens or time
    BROKE_BUILD = "broke-build"  # in a workspace: what built before does not build any more
    TOUCHED_PROTECTED = "touched-protected"  # in a workspace: it changed files that must stay as they are
    DECLINED = "declined"  # the model refuses
    TIMED_OUT = "timed-out"  # the answer ran out of time
    OVER_LIMIT = "over-limit"  # the answer ran out of memory, processes, files or output
    SERVER_FAULT = "server-fault"  # the server failed: never counted against the model
    RIG_FAULT = "rig-fault"  # the machine failed: never counted against the model


# shown beside a model's correctness, never part of it
FAULTS = frozenset({Outcome.SERVER_FAULT, Outcome.RIG_FAULT})


class RunEnd(StrEnum):
    """How running an answer ended."""

    FINISHED = "finished"
    CRASHED = "crashed"
    NO_BUILD = "no-build"
    MISSING_MODULE = "missing-module"
    TIMED_OUT = "timed-out"
    OVER_LIMIT = "over-limit"
    RIG_FAULT = "rig-fault"


class CheckResult(msgspec.Struct, frozen=True, kw_only=True):
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
    feedback: str = ""  # the same without expected values, for a repair turn; not kept
    wall_s: float  # running the answer, all cases
    is_partial: bool = False  # a part of its cases earns a part of the weight; not kept
    first_fault: int = 0  # number of the first case that failed, from 1; 0: none, or not by cases; not kept

    @property
    def credit(self) -> float:
        """Share of the weight that is earned, 0 to 1."""
        if self.is_partial and self.cases_total:
            return self.cases_passed / self.cases_total
        return float(self.passed)


class Facts(msgspec.Struct, frozen=True, kw_only=True):
    """All that the outcome is decided on."""

    server_fault: bool = False
    cap_hit: bool = False  # the finish reason says that the token cap or the context ended the reply
    has_answer: bool = False  # extraction found files
    answer_cut: bool = False  # the block that was taken never ended
    looping: bool = False  # the reply repeats itself at its end
    declined: bool = False  # the reply holds the phrases of a refusal
    in_workspace: bool = False  # the answer is a repository that was changed
    touched_protected: bool = False  # among what was changed is what must stay
    other_language: bool = False  # what does not build as asked is code of another language
    run_ends: tuple[RunEnd, ...] = ()  # one for each check that was run
    required_passed: tuple[bool, ...] = ()  # one for each required check that was run


# the first row that holds decides; tests walk this table row by row
_RUN_PRECEDENCE = (
    (RunEnd.RIG_FAULT, Outcome.RIG_FAULT),
    (RunEnd.NO_BUILD, Outcome.NO_BUILD),
    (RunEnd.MISSING_MODULE, Outcome.MISSING_MODULE),
    (RunEnd.OVER_LIMIT, Outcome.OVER_LIMIT),
    (RunEnd.TIMED_OUT, Outcome.TIMED_OUT),
    (RunEnd.CRASHED, Outcome.CRASHED),
)


def decide_outcome(facts: Facts) -> Outcome:
    """The outcome of an attempt.

    In this order: a server's fault; protected files that were changed, whatever else is right; passed (a reply that
    met its cap after a complete program is no failure); a fault of the rig; a reply ended by its cap, in a loop or
    not, where that mattered; no program, declined or not; code of another language; then what went wrong in the run,
    worst first; last a wrong answer.
    """
    if facts.server_fault:
        return Outcome.SERVER_FAULT
    if facts.touched_protected:
        return Outcome.TOUCHED_PROTECTED
    clean = all(end is RunEnd.FINISHED for end in facts.run_ends)
    if facts.has_answer and facts.required_passed and all(facts.required_passed) and clean:
        return Outcome.PASSED
    if RunEnd.RIG_FAULT in facts.run_ends:
        return Outcome.RIG_FAULT
    if facts.cap_hit and (facts.answer_cut or not facts.has_answer or RunEnd.NO_BUILD in facts.run_ends):
        return Outcome.LOOPING if facts.looping else Outcome.CUT_OFF
    if not facts.has_answer:
        return Outcome.DECLINED if facts.declined else Outcome.NO_CODE
    if facts.other_language and RunEnd.NO_BUILD in facts.run_ends:
        return Outcome.WRONG_LANGUAGE
    for end, outcome in _RUN_PRECEDENCE:
        if end in facts.run_ends:
            return Outcome.BROKE_BUILD if facts.in_workspace and outcome is Outcome.NO_BUILD else outcome
    return Outcome.WRONG_ANSWER


# what the C library, and with it every language here, says of the refusals that isolation makes
_SIGNS = {
    "network": r"network is unreachable|temporary failure in name resolution|name or service not known|EAI_AGAIN"
    r"|ENETUNREACH|getaddrinfo|no such host",
    "files": r"read-only file system|EROFS",
    "rights": r"operation not permitted|\bEPERM\b",
}
_PATTERNS = {name: re.compile(pattern, re.IGNORECASE) for name, pattern in _SIGNS.items()}


def escape_signs(words: str) -> tuple[str, ...]:
    """What a program was refused, by its last words: "network", "files", "rights".

    A program that catches the refusal, or says nothing, leaves no sign: none found does not prove that none was
    tried. The isolation holds either way.
    """
    return tuple(name for name, pattern in _PATTERNS.items() if pattern.search(words))
