"""Is a prompt fair? What the checks demand must be in it; what can be seen without running anything."""

import json
import re
from collections.abc import Iterable
from itertools import combinations
from typing import Any

from kettlefield.core.languages import TEXT
from kettlefield.core.outcome import Outcome
from kettlefield.core.values import pattern_fault
from kettlefield.suite.format import (
    CallCase,
    CallsCheck,
    Check,
    Exercise,
    PageCheck,
    ProgramCase,
    ProgramCheck,
    TextCheck,
)
from kettlefield.suite.page_steps import Choose, Expect, Step, Target
from kettlefield.suite.skeleton import TO_WRITE

MIN_DECOYS = 2
MIN_BY_HAND = 3  # cases worked by hand from the prompt: an answer that is itself wrong must not vet clean
MAX_LIKENESS = 0.6  # share of common word triples above which two prompts are near-duplicates
MIN_VISIBLE_CHARS = 8  # a shorter expected value may be in a prompt by chance
_SELECTED = re.compile(r"[#.\[]([a-zA-Z][\w-]*)")  # ids, classes and attributes of a selector
_WORD = re.compile(r"[A-Za-z][A-Za-z_]{2,}")


def paper_faults(exercise: Exercise) -> list[str]:
    """What is wrong with an exercise as it is written."""
    faults = [*_counts(exercise), *_unnamed(exercise)]
    for turn_number, turn in enumerate(exercise.turns, 1):
        said = _said(exercise, turn_number)
        for check in turn.checks:
            if exercise.own_turn(check) == turn_number:
                faults += [f'check "{check.name}": {fault}' for fault in _check_faults(exercise, check, said)]
    return faults


def unfinished(exercise: Exercise) -> str:
    """What of a skeleton is still to be written; empty when nothing is."""
    places = {
        "exercise.toml": repr(exercise.spec),
        "prompt.md": exercise.prompt,
        "answer": "".join(exercise.answer.values()),
        "cases": repr((exercise.call_cases, exercise.program_cases, exercise.page_steps)),
        "guidance.md": exercise.guidance or "",
        **{f"decoys/{name}": "".join(files.values()) for name, files in exercise.decoys.items()},
    }
    left = [name for name, text in places.items() if TO_WRITE in text]
    return f"still to be written: {', '.join(left)}" if left else ""


def near_duplicates(exercises: tuple[Exercise, ...]) -> dict[str, str]:
    """For each exercise whose prompt is nearly that of an earlier one, what it is like."""
    triples = {exercise.id: _triples(_said(exercise, 1)) for exercise in exercises}
    found: dict[str, str] = {}
    for one, other in combinations(exercises, 2):
        a, b = triples[one.id], triples[other.id]
        if a and b and len(a & b) / min(len(a), len(b)) > MAX_LIKENESS:
            found[other.id] = f'its prompt is nearly that of "{one.id}"'
    return found


def _triples(text: str) -> set[tuple[str, ...]]:
    words = re.findall(r"\w+", text.lower())
    return set(zip(words, words[1:], words[2:], strict=False))


def _counts(exercise: Exercise) -> Iterable[str]:
    decoys = len(exercise.spec.decoy)
    if decoys < MIN_DECOYS:
        yield f"has {decoys} decoys, needs {MIN_DECOYS}"
    groups = [*exercise.call_cases.values()], [*exercise.program_cases.values()]
    by_hand = sum(case.by_hand for cases in groups[0] for case in cases)
    by_hand += sum(case.by_hand for cases in groups[1] for case in cases)
    # what a page must show is never worked out by running an answer
    by_hand += sum(isinstance(step, Expect) for steps in exercise.page_steps.values() for step in steps)
    if by_hand < MIN_BY_HAND and exercise.spec.language != TEXT:
        yield f"has {by_hand} cases worked by hand, needs {MIN_BY_HAND}"
    if any(decoy.outcome is Outcome.PASSED for decoy in exercise.spec.decoy):
        yield "a decoy is declared to pass"


def _unnamed(exercise: Exercise) -> Iterable[str]:
    entry = exercise.spec.entry
    if entry is not None and entry not in _said(exercise, 1):
        yield f'the prompt never names the function "{entry}" that is called'
    for name in exercise.spec.files:
        if name not in _said(exercise, 1):
            yield f'the prompt never names the file "{name}"'


def _said(exercise: Exercise, turn: int) -> str:
    """All that the model has read up to a turn."""
    prompts = "\n".join(part.prompt for part in exercise.turns[:turn])
    return "\n".join([prompts, exercise.opening or "", exercise.closing, *exercise.given.values(), *exercise.given])


def _check_faults(exercise: Exercise, check: Check, said: str) -> Iterable[str]:
    if isinstance(check, CallsCheck):
        if check.callee not in said:
            yield f'the prompt never names "{check.callee}"'
        cases = exercise.call_cases[check.name]
        methods = {step.call for case in cases for step in case.steps}
        errors = {r for case in cases for r in (case.raises, *(step.raises for step in case.steps)) if r is not None}
        for word in sorted((methods | errors) - set(re.findall(r"\w+", said))):
            yield f'the prompt never names "{word}"'
        if not check.computed_words:
            yield from _unsaid(said, ((_inputs(case), _outputs(case)) for case in cases))
        hidden = [json.dumps(case.expect) for case in cases if not case.by_hand]
        yield from _visible(said, hidden)
    elif isinstance(check, ProgramCheck):
        runs = exercise.program_cases[check.name]
        for name in sorted({name for case in runs for name in (*case.files, *case.writes)}):
            if name not in said and not any(name in word for case in runs for word in case.args):
                yield f'the prompt never names the file "{name}"'
        if not check.pattern and not check.computed_words:
            yield from _unsaid(said, ((_given(case), _left(case)) for case in runs))
        yield from _visible(said, [case.stdout or "" for case in runs if not case.by_hand])
    elif isinstance(check, PageCheck):
        yield from _unnamed_targets(said, exercise.page_steps[check.name])
    elif isinstance(check, TextCheck):
        patterns = [pattern for fact in (*check.must, *check.must_not) for pattern in fact.any]
        yield from (f"the pattern {pattern!r} is faulty" for pattern in patterns if pattern_fault(pattern))


def _unnamed_targets(said: str, steps: tuple[Step, ...]) -> Iterable[str]:
    """Elements and options that a check looks for by words which the prompt never says."""
    plain, words = " ".join(said.split()).lower(), set(re.findall(r"[\w-]+", said))
    targets = [
        part for step in steps for name in step.__struct_fields__ if isinstance(part := getattr(step, name), Target)
    ]
    wanted = {called for t in targets for called in (t.name, t.label, t.text) if called}
    wanted |= {step.option for step in steps if isinstance(step, Choose)}
    missing = {called for called in wanted if " ".join(called.split()).lower() not in plain}
    selectors = " ".join(part for t in targets for part in (t.css, t.within) if part)
    missing |= {name for name in _SELECTED.findall(selectors) if name not in words}
    if missing:
        yield f"the prompt never says: {', '.join(sorted(missing)[:6])}"


def _unsaid(said: str, pairs: Iterable[tuple[str, str]]) -> Iterable[str]:
    """Words that an output must hold and that neither the prompt nor the case's own input holds."""
    known = {word.lower() for word in _WORD.findall(said)}
    missing: set[str] = set()
    for given, wanted in pairs:
        mine = {word.lower() for word in _WORD.findall(given)}
        letters = set(re.findall(r"\b[A-Za-z]\b", given))
        # a part of a word that went in may be made of it: a code, an initial
        missing |= {
            word
            for word in _WORD.findall(wanted)
            if word.lower() not in known
            and not any(word.lower() in other for other in mine)
            and not set(word) <= letters  # a drawing, made of letters that went in
        }
    if missing:
        shown = ", ".join(sorted(missing)[:6])
        yield f"the prompt never says: {shown}"


def _visible(said: str, expected: list[str]) -> Iterable[str]:
    """Expected values of cases that are not examples, standing in the prompt."""
    for value in expected:
        if len(value.strip()) >= MIN_VISIBLE_CHARS and value.strip() in said:
            yield f"the prompt shows what a hidden case expects: {value.strip()[:40]}"
            return


def _inputs(case: CallCase) -> str:
    return json.dumps([case.args, [step.args for step in case.steps]])


def _outputs(case: CallCase) -> str:
    values: list[Any] = [case.expect, *(step.expect for step in case.steps)]
    # truth values and null are JSON's words, not the prompt's
    return re.sub(r"\b(?:true|false|null)\b", "", json.dumps(values, ensure_ascii=False))


def _given(case: ProgramCase) -> str:
    return "\n".join([case.stdin, *case.args, *case.files.values(), *case.files])


def _left(case: ProgramCase) -> str:
    written = "\n".join(case.writes.values())
    return f"{case.stdout or ''}\n" + re.sub(r"\b(?:true|false|null)\b", "", written)
