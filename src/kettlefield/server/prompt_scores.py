"""Log-probabilities of a prompt's own tokens, by ``echo`` and ``logprobs`` of the plain completions endpoint."""

import heapq
import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, Protocol, TypeGuard, runtime_checkable

from kettlefield.core.statistics.next_token import Position


@dataclass(frozen=True, slots=True, kw_only=True)
class Scores:
    """What a server said of a text."""

    positions: tuple[Position, ...] = ()
    fault: str = ""  # why it said nothing that can be used


@runtime_checkable
class Scorer(Protocol):
    """A client whose server can be asked how likely a text is."""

    async def score(self, text: str, *, begins: int, top: int) -> Scores:
        """The tokens of a text from a character on; a server's failure is in the result, not raised."""
        ...


def score_request(text: str, top: int) -> dict[str, Any]:
    """The request's fields. One token is asked for, since some servers refuse none; it is left out again."""
    return {"prompt": text, "max_tokens": 1, "temperature": 0, "echo": True, "logprobs": top, "stream": False}


def read_scores(answer: Any, text: str, begins: int, top: int) -> Scores:
    """The positions of a text in an answer.

    Parameters
    ----------
    answer : any
        The decoded body.
    text : str
        What was asked of.
    begins : int
        Character from which on tokens count.
    top : int
        Likeliest tokens that were asked for; a server that lists more is not taken at its word.
    """
    try:
        found = answer["choices"][0].get("logprobs")
    except (TypeError, KeyError, IndexError, AttributeError):
        return Scores(fault="answers in another shape: it has no choices")
    if not isinstance(found, dict):
        return Scores(fault="returns no log-probabilities of a prompt")
    tokens, logprobs, tops = (found.get(name) for name in ("tokens", "token_logprobs", "top_logprobs"))
    if not _are_texts(tokens) or not isinstance(logprobs, list) or len(logprobs) != len(tokens):
        return Scores(fault="returns log-probabilities in another shape: tokens and token_logprobs do not match")
    if not isinstance(tops, list) or len(tops) != len(tokens):
        return Scores(fault="returns log-probabilities in another shape: it lists no likeliest tokens")
    joined = "".join(tokens)
    # a mark that begins the text is a token without a place in it
    lead = len(joined) - len(joined.removeprefix(tokens[0])) if tokens and not text.startswith(tokens[0]) else 0
    if not joined[lead:].startswith(text):
        return Scores(fault="returns log-probabilities, but not of the text that was sent")
    positions, place = [], -lead
    for token, logprob, listed in zip(tokens, logprobs, tops, strict=True):
        if begins <= place < len(text):
            if not _is_logprob(logprob) or not isinstance(listed, dict) or not all(map(_is_logprob, listed.values())):
                return Scores(fault="returns log-probabilities in another shape: one of them is no number")
            held = heapq.nlargest(top, listed.items(), key=lambda pair: pair[1])
            positions.append(Position(token, float(logprob), {name: float(value) for name, value in held}))
        place += len(token)
    return Scores(positions=tuple(positions))


def _are_texts(tokens: object) -> TypeGuard[list[str]]:
    return isinstance(tokens, list) and all(isinstance(token, str) for token in tokens)


def _is_logprob(value: object) -> bool:
    return isinstance(value, int | float) and not isinstance(value, bool) and math.isfinite(value) and value <= 1e-6


def pack_positions(positions: Sequence[Position]) -> list[list[Any]]:
    """Positions as plain data, rounded to what tells levels apart: ``[token, logprob, {token: logprob}]``."""
    return [
        [one.token, round(one.logprob, 4), {token: round(value, 4) for token, value in one.top.items()}]
        for one in positions
    ]


def unpack_positions(held: Sequence[Sequence[Any]]) -> tuple[Position, ...]:
    """What `pack_positions` made, back as positions."""
    return tuple(Position(token, float(logprob), top) for token, logprob, top in held)
