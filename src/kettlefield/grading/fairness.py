"""Is a prompt fair? What the checks demand must be in it; what can be seen without running anything."""

import re
from collections.abc import Iterable
from itertools import combinations

import msgspec

from kettlefield.core.extraction.syntax import TEXT
from kettlefield.core.outcome import Outcome
from kettlefield.grading.checks.all_checks import kind_of
from kettlefield.grading.prompt_words import MIN_BY_HAND
from kettlefield.suite.format import Exercise
from kettlefield.suite.skeleton import TO_WRITE
from kettlefield.suite.typed_toml import read_text
from kettlefield.suite.variants import misread

MIN_DECOYS = 2
MAX_LIKENESS = 0.6  # share of common word triples above which two prompts are near-duplicates


def paper_faults(exercise: Exercise) -> list[str]:
    """What is wrong with an exercise as it is written."""
    faults = [*_counts(exercise), *_unnamed(exercise), *_variant_faults(exercise)]
    for turn_number, turn in enumerate(exercise.turns, 1):
        said = _said(exercise, turn_number)
        for check in turn.checks:
            if exercise.own_turn(check) == turn_number:
                faults += [f'check "{check.name}": {fault}' for fault in kind_of(check).unfair(exercise, check, said)]
    return faults


def unfinished(exercise: Exercise) -> str:
    """What of a skeleton is still to be written; empty when nothing is."""
    places = {
        "exercise.toml": repr(exercise.spec),
        "prompt.md": exercise.prompt,
        "answer": "".join(exercise.answer.values()),
        "cases": repr(exercise.cases),
        "guidance.md": exercise.guidance or "",
        **{f"decoys/{name}": "".join(files.values()) for name, files in exercise.decoys.items()},
    }
    left = [name for name, text in places.items() if TO_WRITE in text]
    return f"still to be written: {', '.join(left)}" if left else ""


def near_duplicates(exercises: tuple[Exercise, ...]) -> dict[str, str]:
    """For each exercise whose prompt is nearly that of an earlier one, what it is like."""
    # what two exercises refer to, or the repository that they are set in, may be the same: what they ask may not
    triples = {
        exercise.id: _triples(_said(msgspec.structs.replace(exercise, refer_to=None, workspace={}), 1))
        for exercise in exercises
    }
    same: dict[str, str] = {}
    for one, other in combinations(exercises, 2):
        a, b = triples[one.id], triples[other.id]
        if a and b and len(a & b) / min(len(a), len(b)) > MAX_LIKENESS:
            same[other.id] = f'its prompt is nearly that of "{one.id}"'
    return same


def _triples(text: str) -> set[tuple[str, ...]]:
    words = re.findall(r"\w+", text.lower())
    return set(zip(words, words[1:], words[2:], strict=False))


def _counts(exercise: Exercise) -> Iterable[str]:
    decoys = len(exercise.spec.decoy)
    if decoys < MIN_DECOYS:
        yield f"has {decoys} decoys, needs {MIN_DECOYS}"
    by_hand = sum(kind_of(check).by_hand(exercise.cases.get(check.name, ())) for check in exercise.checks)
    if by_hand < MIN_BY_HAND and exercise.spec.language != TEXT:
        yield f"has {by_hand} cases worked by hand, needs {MIN_BY_HAND}"
    if any(decoy.outcome is Outcome.PASSED for decoy in exercise.spec.decoy):
        yield "a decoy is declared to pass"


def _variant_faults(exercise: Exercise) -> Iterable[str]:
    """What would be wrong with its variants, seen from the exercise as written."""
    vary = exercise.spec.vary
    for path in sorted(exercise.folder.glob("prompt*.md")) if vary else []:
        yield from (f"{path.name}: {fault}" for fault in misread(read_text(path), vary))
    if any(parameter.ways for parameter in vary.values()) and not any(turn.also for turn in exercise.turns):
        yield "varies in its rules, and no second answer of its own confirms what the first expects: write one in also/"


def _unnamed(exercise: Exercise) -> Iterable[str]:
    entry = exercise.spec.entry
    if entry is not None and entry not in _said(exercise, 1):
        yield f'the prompt never names the function "{entry}" that is called'
    for name in (*exercise.spec.files, *exercise.beside):
        if name not in _said(exercise, 1):
            yield f'the prompt never names the file "{name}"'


def _said(exercise: Exercise, turn: int) -> str:
    """All that the model has read up to a turn."""
    prompts = "\n".join(part.prompt for part in exercise.turns[:turn])
    shown = [exercise.refer_to.text] if exercise.refer_to is not None else []
    given = [*exercise.given.values(), *exercise.given, *exercise.workspace.values(), *exercise.workspace]
    return "\n".join([*shown, prompts, exercise.opening or "", exercise.closing, *given])
