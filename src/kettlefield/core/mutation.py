"""Simple mechanical mutants of a program: one operator, constant or bound changed at a time.

A check that lets many of them pass does not look closely. The mutations are made on the text, alike for all
languages, outside strings and comments; those that do not build are for whoever runs them to leave out.
"""

import random
import re
from dataclasses import dataclass

from kettlefield.core.masking import blanked

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


@dataclass(frozen=True, slots=True, kw_only=True)
class Mutant:
    """A changed program, and what was changed."""

    text: str
    change: str  # such as "line 7: < becomes <="


def make_mutants(
    text: str, language: str, *, most: int, rng: random.Random, within: tuple[int, int] | None = None
) -> tuple[Mutant, ...]:
    """Mutants of a program, at most so many, drawn evenly from all that can be made.

    Parameters
    ----------
    text : str
        The program.
    language : str
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
        places += [(found.start(), found.end(), becomes) for found in pattern.finditer(plain)]
    signs = {found.end() for found in _SIGN.finditer(plain)}
    places += [
        (found.start(), found.end(), str(int(found[0]) + 1))
        for found in _NUMBER.finditer(plain)
        if found.end() not in signs
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
