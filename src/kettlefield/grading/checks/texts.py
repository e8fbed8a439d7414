"""Checks of words and of edits, which need nothing run: facts in an explanation, the scope of a change."""

import re
from collections.abc import Iterable

import msgspec

from kettlefield.core.extraction.extract import answer_text
from kettlefield.core.extraction.patching import lines_changed_outside
from kettlefield.core.outcome import CheckResult, RunEnd
from kettlefield.core.values import occurs, pattern_fault
from kettlefield.grading.checks.kind import Bench, CheckKind
from kettlefield.grading.results import Finding, make_result
from kettlefield.suite.format import Check, Exercise, Part


class Fact(Part, frozen=True, kw_only=True):
    """Something that a text says, in any of several wordings."""

    name: str
    any: tuple[str, ...]  # regular expressions, whatever the case


class Question(Part, frozen=True, kw_only=True):
    """A question that the prompt puts after the explanation, with letters to choose from."""

    number: int  # as the prompt numbers it
    right: str  # the letter


class TextCheck(Check, frozen=True, kw_only=True, tag_field="kind", tag="text"):
    """Facts that an explanation must hold and claims that it must not; partial by design."""

    must: tuple[Fact, ...] = ()
    must_not: tuple[Fact, ...] = ()
    at_least: float = 1.0  # share of the facts; a claim that must not be there always fails
    question: tuple[Question, ...] = ()  # all must be answered rightly
    min_words: int = 0
    max_words: int | None = None


class ScopeCheck(Check, frozen=True, kw_only=True, tag_field="kind", tag="edit-scope"):
    """An edit stays where it was asked for, and keeps what was not to change."""

    file: str
    regions: tuple[tuple[int, int], ...]  # first and last line of the given file that the edit may touch
    max_outside: int = 0  # lines changed elsewhere
    keep: tuple[str, ...] = ()  # signatures and names that must still stand, white space folded


def _run_text(bench: Bench, check: TextCheck) -> CheckResult:
    """Look for the facts and claims; a fact counts however it is worded among its patterns."""
    text = answer_text(bench.files[bench.main])
    missing = [fact.name for fact in check.must if not any(occurs(pattern, text) for pattern in fact.any)]
    wrong = [claim.name for claim in check.must_not if any(occurs(pattern, text) for pattern in claim.any)]
    astray = [one for one in check.question if _chosen(text, one.number) != one.right.lower()]
    words = len(text.split())
    faults = [f"does not say: {name}" for name in missing] + [f"says: {name}" for name in wrong]
    too_long = check.max_words is not None and words > check.max_words
    if words < check.min_words or too_long:
        faults.append(f"has {words} words, wanted {check.min_words} to {check.max_words or 'any number'}")
    faults += [f"answers question {one.number} with {_chosen(text, one.number) or 'nothing'}" for one in astray]
    total = len(check.must) + len(check.must_not) + len(check.question)
    agreed = total - len(missing) - len(wrong) - len(astray)
    enough = len(check.must) - len(missing) >= check.at_least * len(check.must)
    passed = enough and not wrong and not astray and not too_long and words >= check.min_words
    finding = Finding(end=RunEnd.FINISHED, agreed=agreed, detail="; ".join(faults), feedback="")
    # fewer facts than all may be enough
    return msgspec.structs.replace(make_result(check, finding, total, 0.0), passed=passed, is_partial=True)


def _chosen(text: str, number: int) -> str:
    """The letter that a reply chose: of its last line that begins with the question's number and a letter."""
    found = re.findall(
        rf"^[^\w\n]*(?:question\s*|q)?{number}[^\w\n]{{1,8}}([a-z])\b", text, re.IGNORECASE | re.MULTILINE
    )
    return str(found[-1]).lower() if found else ""


def _run_scope(bench: Bench, check: ScopeCheck) -> CheckResult:
    """See whether an edit stayed in its regions and kept the names and signatures that it had to."""
    faults = []
    edited = bench.files.get(check.file)
    if edited is None:
        faults.append(f"{check.file} is not there any more")
    else:
        outside = lines_changed_outside(bench.exercise.given[check.file], edited, check.regions)
        if outside > check.max_outside:
            faults.append(f"{outside} lines changed outside the part to be fixed (at most {check.max_outside})")
        folded = _folded(edited)
        faults += [f"no longer holds {piece!r}" for piece in check.keep if _folded(piece) not in folded]
    said = "; ".join(faults)
    finding = Finding(end=RunEnd.FINISHED, agreed=int(not faults), detail=said, feedback=said)
    return make_result(check, finding, 1, 0.0)


def _folded(text: str) -> str:
    return re.sub(r"\s+", " ", text)


def _text_faults(check: TextCheck) -> Iterable[tuple[str, str]]:
    if not 0 < check.at_least <= 1:
        yield f"at_least is {check.at_least:g}", "Write a share above 0, up to 1."


def _unfair_text(_exercise: Exercise, check: TextCheck, said: str) -> Iterable[str]:
    for one in check.question:
        if not re.search(rf"^\W*{one.number}\W", said, re.MULTILINE) or f"{one.right}) " not in said:
            yield f'the prompt never puts question {one.number} with an answer "{one.right})"'
    patterns = [pattern for fact in (*check.must, *check.must_not) for pattern in fact.any]
    yield from (f"the pattern {pattern!r} is faulty" for pattern in patterns if pattern_fault(pattern))


TEXT_KIND = CheckKind(spec=TextCheck, answers="text", faults=_text_faults, run=_run_text, unfair=_unfair_text)
SCOPE = CheckKind(spec=ScopeCheck, run=_run_scope)
