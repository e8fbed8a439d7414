"""A simulated assessor whose leans are set, so that what is found of them can be held against the truth."""

import hashlib
import random
import re
from dataclasses import dataclass

from kettlefield.marking.judge_protocol import CHOICE_WANTED, MARK_WANTED
from kettlefield.suite.format import Exercise

GOOD, POOR = 4, 1
_QUOTED = re.compile(r"\[([0-9a-f]{12}) begins\]\n(.*?)\n\[\1 ends\]", re.DOTALL)


@dataclass(frozen=True, slots=True, kw_only=True)
class Leans:
    """How it errs; each a chance from 0 to 1."""

    place: float = 0.0  # takes the first, whatever it is
    length: float = 0.0  # else takes the longer
    noise: float = 0.0  # a mark is off by one


def read_leans(text: str) -> Leans:
    """Leans from ``place=0.3,length=0.2``.

    Raises
    ------
    ValueError
        A name is unknown, or a value is no chance.
    """
    given = dict(part.split("=", 1) for part in text.split(",") if part)
    leans = Leans(**{name: float(value) for name, value in given.items()})
    if not all(0 <= getattr(leans, name) <= 1 for name in Leans.__slots__):
        raise ValueError(f"leans={text!r}: wanted chances from 0 to 1")
    return leans


class SimulatedAssessor:
    """Knows the exercises' own answers, and so what is right; says it with the leans that were set."""

    def __init__(self, leans: Leans, exercises: tuple[Exercise, ...]) -> None:
        self._leans = leans
        self._own = {_plain(text) for e in exercises for turn in e.turns for text in turn.answer.values()}

    @staticmethod
    def is_asked(prompt: str) -> bool:
        """Whether a prompt is one for an assessor."""
        return MARK_WANTED in prompt or CHOICE_WANTED in prompt

    def reply(self, prompt: str, seed: int) -> str:
        """A mark or a choice, with a word before it."""
        replies = [found[2] for found in _QUOTED.finditer(prompt)]
        rng = random.Random(hashlib.sha256("\0".join([str(seed), *replies]).encode()).digest())
        if CHOICE_WANTED not in prompt:
            mark = GOOD if self._is_right(replies[0]) else POOR
            if rng.random() < self._leans.noise:
                mark = mark - 1 if mark == GOOD else mark + rng.choice((-1, 1))
            return f"It was held against the guidance.\nMARK: {mark}"
        return f"Both were held against the guidance.\nBETTER: {self._choice(replies, rng)}"

    def _choice(self, replies: list[str], rng: random.Random) -> str:
        one, other = replies
        if rng.random() < self._leans.place:
            return "ONE"
        if rng.random() < self._leans.length and len(one) != len(other):
            return "ONE" if len(one) > len(other) else "TWO"
        good = self._is_right(one), self._is_right(other)
        return "EQUAL" if good[0] == good[1] else "ONE" if good[0] else "TWO"

    def _is_right(self, reply: str) -> bool:
        # of several files the own answer's are quoted one after the other
        parts = re.split(r"^--- \S+\n", reply, flags=re.MULTILINE)
        return all(_plain(part) in self._own for part in parts if part.strip())


def _plain(text: str) -> str:
    return " ".join(text.split())
