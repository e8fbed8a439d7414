"""Simulated next-token distributions: how likely a made-up model at a level would hold each token of a text."""

import hashlib
import math
import random
from collections.abc import Sequence

import msgspec

from kettlefield.demo.http_front import TokenScore

OTHERS = ("the", " ", "\n", "(", ")", "=", "berth", "return", "tide", "for", "0", "1")  # that might stand there instead
REST = 0.02  # of the probability lies outside what is listed
FULL_BITS = 16.0
NOISE = 0.25  # of a token's log-odds at two bits a weight, for a frailty of 1; halves with each further bit


class Made(msgspec.Struct, frozen=True, kw_only=True):
    """Whose distributions these are: what it thinks of a text hangs on the model, and only the noise on its level."""

    name: str
    ability: float
    frailty: float
    bits: float  # of a weight, on average

    @property
    def noise(self) -> float:
        """Spread of a token's log-odds about those of the unquantised model."""
        return NOISE * self.frailty * 2.0 ** (2.0 - self.bits) if self.bits < FULL_BITS else 0.0


def simulated_next(tokens: Sequence[str], made: Made, *, top: int) -> TokenScore:
    """The likeliest token after a text, and others beside it.

    Parameters
    ----------
    tokens : sequence of str
        The text.
    made : Made
        The model at its level.
    top : int
        Tokens listed.
    """
    own, shaken = _dice(made, tokens[-4:])
    odds = {other: own.gauss(0.0, 2.0) for other in OTHERS}
    listed = _listed(odds, shaken, made.noise)
    best = max(listed, key=lambda name: listed[name])
    return TokenScore(text=best, logprob=listed[best], top=_likeliest(listed, top))


def simulated_scores(tokens: Sequence[str], made: Made, *, top: int) -> list[TokenScore]:
    """Each token of a text with its log-probability and the likeliest ones; the first has nothing before it.

    Parameters
    ----------
    tokens : sequence of str
        The text.
    made : Made
        The model at its level.
    top : int
        Tokens listed at each place.
    """
    scores: list[TokenScore] = []
    for place, token in enumerate(tokens):
        if place == 0:
            scores.append(TokenScore(text=token, logprob=None, top=None))
            continue
        own, shaken = _dice(made, tokens[max(0, place - 4) : place + 1])
        odds = {token: made.ability + 2.0 + own.gauss(0.0, 2.0)}
        for other in OTHERS:
            odds.setdefault(other, own.gauss(-1.5, 1.0))
        listed = _listed(odds, shaken, made.noise)
        scores.append(TokenScore(text=token, logprob=listed[token], top=_likeliest(listed, top)))
    return scores


def _dice(made: Made, tokens: Sequence[str]) -> tuple[random.Random, random.Random]:
    """What is drawn of the model at a place, and of its level."""
    seed = "\0".join((made.name, *tokens))
    own, shaken = (random.Random(hashlib.sha256(f"{seed}\0{part}".encode()).digest()) for part in ("", made.bits))
    return own, shaken


def _listed(odds: dict[str, float], shaken: random.Random, noise: float) -> dict[str, float]:
    """Log-probabilities from log-odds, shaken by the level's noise."""
    moved = {name: value + shaken.gauss(0.0, 1.0) * noise for name, value in odds.items()}
    whole = math.log(sum(map(math.exp, moved.values()))) - math.log1p(-REST)
    return {name: value - whole for name, value in moved.items()}


def _likeliest(listed: dict[str, float], top: int) -> dict[str, float]:
    return dict(sorted(listed.items(), key=lambda item: -item[1])[:top])
