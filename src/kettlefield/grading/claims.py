"""Is every demand of a prompt checked? Each has a claim, and each claim a decoy that breaks it and nothing else."""

import re
from collections.abc import Iterable

from kettlefield.core.outcome import CheckResult, Outcome
from kettlefield.core.plaintext import shorten
from kettlefield.suite.format import Claim, Exercise

# words that make a sentence a demand: whoever breaks it has answered wrongly
_DEMANDS = re.compile(
    r"\b(?:must|only|each|every|first|last|at most|at least|ties?|order|errors?|unchanged|exactly|never|instead"
    r"|ignored?|without|rounded|sorted)\b",
    re.IGNORECASE,
)
# what only describes the input; whoever misreads it fails everything
_INPUT = re.compile(r"\b(?:first|last|each|every)(?: further| other)? line\b(?! (?:must|for))", re.IGNORECASE)
_CHOICE = re.compile(r"\?.*\ba\) ")  # a question with its answers to choose from demands nothing of its own
_CODE = re.compile(r"^(?P<fence>```+|~~~+).*?^(?P=fence)[^\S\n]*$", re.MULTILINE | re.DOTALL)
# a sentence ends at its mark, at an empty line, or where the next item of a list begins
_END = re.compile(r"(?<=[.:;?!])\s+(?=[A-Z`*\-\d])|\n[^\S\n]*\n|\n(?=[^\S\n]*(?:[-*]|\d+\.) )")
_FENCE = re.compile(r"^(?:```+|~~~+).*$", re.MULTILINE)
_COMMENT = re.compile(r"^[^\S\n]*(?:/\*+|\*/|\*|//+|#+|--+)(?:[^\S\n]|$)", re.MULTILINE)
MIN_CASES = 3  # of an exercise, from which on a decoy that fails all of them breaks more than its claim
SHOWN = 70  # characters of a sentence in a message


def demands(prompt: str) -> list[str]:
    """The sentences of a prompt that demand something, white space folded; shown code is none."""
    sentences = (_folded(part) for part in _END.split(_CODE.sub("\n\n", prompt)))
    return [
        sentence for sentence in sentences if _DEMANDS.search(_INPUT.sub("", sentence)) and not _CHOICE.search(sentence)
    ]


def claim_faults(exercise: Exercise) -> Iterable[str]:
    """What is wrong with the claims as they are written; an exercise without any is not looked at."""
    claims = exercise.spec.claim
    if not claims:
        return
    prompts = _asked(exercise)
    referred = exercise.refer_to
    sections = [referred.section(heading) for heading in referred.needed] if referred is not None else []
    said = [
        *(_folded(_CODE.sub(" ", text)) for text in (*prompts, *sections)),
        *map(_folded, _around_the_gap(exercise)),
    ]
    for claim in claims:
        for place in claim.places:
            if not any(_folded(place) in text for text in said):
                yield f'no prompt says "{shorten(place, SHOWN)}", which is claimed'
    places = [_folded(place) for claim in claims for place in claim.places]
    for prompt in prompts:
        for sentence in demands(prompt):
            if not any(place in sentence or sentence in place for place in places):
                yield f'no claim covers "{shorten(sentence, SHOWN)}"'
    for heading, section in zip(referred.needed if referred is not None else (), sections, strict=True):
        if not any(place in _folded(section) for place in places):
            yield f'no claim rests on "{heading}", which is needed'
    broken_by = [claim.broken_by for claim in claims]
    for name in dict.fromkeys(broken_by):
        if broken_by.count(name) > 1:
            yield f'decoy "{name}" breaks {broken_by.count(name)} claims: each wants one of its own'


def _asked(exercise: Exercise) -> list[str]:
    """The prompts; of a stub to be filled in, what its comments say is the task, and not code that is shown."""
    prompts = [turn.prompt for turn in exercise.turns]
    if exercise.spec.voice == "stub":
        prompts[0] = _COMMENT.sub("", _FENCE.sub("", prompts[0]))
    return prompts


def _around_the_gap(exercise: Exercise) -> tuple[str, str]:
    """Of code to be completed: its comments say what it must do, so a claim may stand on them."""
    return exercise.opening or "", exercise.closing


def unclaimed(exercise: Exercise) -> int:
    """How many demands an exercise without any claim makes."""
    return 0 if exercise.spec.claim else sum(len(demands(prompt)) for prompt in _asked(exercise))


def breaks_more(claim: Claim, outcome: Outcome, checks: tuple[CheckResult, ...]) -> str:
    """Why a claim's decoy breaks more than the claim; empty when it does not.

    A decoy that breaks one demand still gets the cases right that do not touch it. One that crashes, does not end
    or does not build shows nothing of the others.
    """
    tried = sum(check.cases_total for check in checks)
    if (
        claim.everywhere
        or outcome is not Outcome.WRONG_ANSWER
        or tried < MIN_CASES
        or any(check.cases_passed for check in checks)
    ):
        return ""
    return (
        f'decoy "{claim.broken_by}" fails all of {tried} cases: it breaks more than "{shorten(claim.places[0], SHOWN)}"'
    )


def _folded(text: str) -> str:
    return " ".join(text.split())
