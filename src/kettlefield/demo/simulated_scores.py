"""Simulated next-token distributions: how likely a made-up model at a level would hold each token of a text."""

import hashlib
import math
import random
from collections.abc import Sequence

from kettlefield.demo.http_front import TokenScore

OTHERS = ("the", " ", "\n", "(", ")", "=", "berth", "return", "tide", "for", "0", "1")  # that might stand there instead
REST = 0.02  # of the probability lies outside what is listed
FULL_BITS = 16.0
NOISE = 0.25  # of a token's log-odds at two bits a weight, for a frailty of 1; halves with each further bit


def simulated_scores(
    tokens: Sequence[str], *, model: str, ability: float, frailty: float, bits: float, top: int
) -> list[TokenScore]:
    """Each token of a text with its log-probability and the likeliest ones; the first has nothing before it.

    Parameters
    ----------
    tokens : sequence of str
        The text.
    model : str
        Its name: what it thinks of a text hangs on it, and only the noise on its level.
    ability, frailty : float
        As the model has them.
    bits : float
        A weight's, on average.
    top : int
        Tokens listed at each place.
    """
    noise = NOISE * frailty * 2.0 ** (2.0 - min(bits, FULL_BITS)) if bits < FULL_BITS else 0.0
    scores: list[TokenScore] = []
    for place, token in enumerate(tokens):
        if place == 0:
            scores.append(TokenScore(text=token, logprob=None, top=None))
            continue
        seed = "\0".join((model, *tokens[max(0, place - 4) : place + 1]))
        own, shaken = (random.Random(hashlib.sha256(f"{seed}\0{part}".encode()).digest()) for part in ("", bits))
        odds = {token: ability + 2.0 + own.gauss(0.0, 2.0)}
        for other in OTHERS:
            odds.setdefault(other, own.gauss(-1.5, 1.0))
        moved = {name: value + shaken.gauss(0.0, 1.0) * noise for name, value in odds.items()}
        whole = math.log(sum(map(math.exp, moved.values()))) - math.log1p(-REST)
        listed = sorted(moved, key=lambda name: -moved[name])[:top]
        held = {name: moved[name] - whole for name in listed}
        scores.append(TokenScore(text=token, logprob=moved[token] - whole, top=held))
    return scores
