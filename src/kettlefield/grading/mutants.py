"""Mechanical mutants of an exercise's own answer: how many of them do its checks catch?

A check that lets many of them pass does not look closely. The mutations are made on the text, the same way for all
languages, outside strings and comments; those that do not build are for whoever runs them to leave out.
"""

import random
import re

import msgspec

from kettlefield.core.extraction.code_text import blanked
from kettlefield.core.extraction.syntax import TEXT, Syntax
from kettlefield.core.outcome import Outcome
from kettlefield.grading.grader import Grader
from kettlefield.languages.all_languages import LANGUAGES
from kettlefield.suite.format import Exercise

# what is found, and what it becomes; operators are set off by spaces, as every formatter writes them, so that
# type parameters, arrows and shifts are left alone
_SWAPS = (
    (re.compile(r"(?<= )<(?= )"), "<="),
    (re.compile(r"(?<= )<=(?= )"), "<"),
    (re.compile(r"(?<= )>(?= )"), ">="),
    (re.compile(r"(?<= )>=(?= )"), ">"),
    (re.compile(r"(?<= )={2,3}(?= )"), "!="),
    (re.compile(r"(?<= )!={1,2}(?= )"), "=="),
    (re.compile(r"(?<=[\w)\]] )\+(?= )"), "-"),
    (re.compile(r"(?<=[\w)\]] )-(?= [\w(])"), "+"),
    (re.compile(r"(?<=[\w)\]] )\*(?= [\w(])"), "+"),
    (re.compile(r"(?<=[\w)\]] )/{1,2}(?= [\w(])"), "*"),
    (re.compile(r"(?<= )%(?= [\w(])"), "+"),
    (re.compile(r"(?<= )\+=(?= )"), "-="),
    (re.compile(r"(?<= )-=(?= )"), "+="),
    (re.compile(r"(?<= )and(?= )"), "or"),
    (re.compile(r"(?<= )or(?= )"), "and"),
    (re.compile(r"(?<= )&&(?= )"), "||"),
    (re.compile(r"(?<= )\|\|(?= )"), "&&"),
    (re.compile(r"(?<= )AND(?= )"), "OR"),
    (re.compile(r"(?<= )-lt(?= )"), "-le"),
    (re.compile(r"(?<= )-le(?= )"), "-lt"),
    (re.compile(r"(?<= )-gt(?= )"), "-ge"),
    (re.compile(r"(?<= )-ge(?= )"), "-gt"),
    (re.compile(r"\bmin\b(?=\()"), "max"),
    (re.compile(r"\bmax\b(?=\()"), "min"),
    (re.compile(r"\bTrue\b"), "False"),
    (re.compile(r"\bFalse\b"), "True"),
    (re.compile(r"\btrue\b"), "false"),
    (re.compile(r"\bfalse\b"), "true"),
    (re.compile(r"\bASC\b"), "DESC"),
    (re.compile(r"\bSUM\b(?=\()"), "MAX"),
)
_NUMBER = re.compile(r"(?<![\w.$])\d{1,9}(?![\w.])")
# a 1 or -1 that a condition chooses is the sign of a comparison: any other size means the same
_SIGN = re.compile(r"(?<=[?:] )-?1(?![\w.])")


class Mutant(msgspec.Struct, frozen=True, kw_only=True):
    """A changed program, and what was changed."""

    text: str
    change: str  # such as "line 7: < becomes <="


def make_mutants(
    text: str, language: Syntax, *, most: int, rng: random.Random, within: tuple[int, int] | None = None
) -> tuple[Mutant, ...]:
    """Mutants of a program, at most a number of them, drawn evenly from all that can be made.

    Parameters
    ----------
    text : str
        The program.
    language : Syntax
        For what its strings and comments look like.
    most : int
        At least 1.
    rng : random.Random
        Draws among them.
    within : (int, int), optional
        The characters that may be changed; none: all.
    """
    plain = blanked(text, language)
    within = within or (0, len(text))
    places: list[tuple[int, int, str]] = []
    for pattern, becomes in _SWAPS:
        places += [(match.start(), match.end(), becomes) for match in pattern.finditer(plain)]
    signs = {match.end() for match in _SIGN.finditer(plain)}
    places += [
        (match.start(), match.end(), str(int(match[0]) + 1))
        for match in _NUMBER.finditer(plain)
        if match.end() not in signs
    ]
    places = [(start, end, becomes) for start, end, becomes in places if within[0] <= start and end <= within[1]]
    chosen = sorted(rng.sample(places, most) if len(places) > most else places)
    return tuple(
        Mutant(
            text=text[:start] + becomes + text[end:],
            change=f"line {text.count(chr(10), 0, start) + 1}: {text[start:end]} becomes {becomes}",
        )
        for start, end, becomes in chosen
    )


MIN_MADE = 5  # one survivor of fewer says little
MOST = 24  # of one exercise: enough to tell 75 from 95 %, few enough that compiled languages are done in minutes
WANTED_SHARE = 0.75  # caught; below it the checks let too much through. A few mutants always change nothing


class Caught(msgspec.Struct, frozen=True, kw_only=True):
    """What became of an exercise's mutants."""

    made: int  # that build: a mutant that does not even build says nothing of the checks
    caught: int
    survivors: tuple[str, ...]  # what was changed in those that passed

    @property
    def says_little(self) -> bool:
        """Whether there were too few mutants to judge the checks by."""
        return self.made < MIN_MADE

    @property
    def share(self) -> float | None:
        """Caught of those made; None without any."""
        return self.caught / self.made if self.made else None


def try_mutants(exercise: Exercise, grader: Grader) -> Caught:
    """Grade mutants of the last turn's own answer, drawn by the exercise's name."""
    if exercise.spec.language == TEXT:
        return Caught(made=0, caught=0, survivors=())
    turn = len(exercise.turns)
    answer = exercise.turns[-1].answer
    made, survivors = 0, []
    for name, text in sorted(answer.items()):
        language = LANGUAGES.of_suffix(name)
        if language is None:
            continue
        rng = random.Random(f"{exercise.id}\0{name}")
        # what the exercise gave is not the model's to get wrong
        end = len(text) - len(exercise.closing)
        within = (len(exercise.opening), end) if exercise.opening is not None else None
        for mutant in make_mutants(text, LANGUAGES[language], most=max(1, MOST // len(answer)), rng=rng, within=within):
            outcome = grader.grade_files(exercise, {**answer, name: mutant.text}, turn=turn).outcome
            if outcome in {Outcome.NO_BUILD, Outcome.RIG_FAULT}:
                continue
            made += 1
            if outcome is Outcome.PASSED:
                survivors.append(f"{name} {mutant.change}" if len(answer) > 1 else mutant.change)
    return Caught(made=made, caught=made - len(survivors), survivors=tuple(survivors))
