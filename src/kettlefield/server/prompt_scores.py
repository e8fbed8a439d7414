"""Log-probabilities by the open endpoints: of a prompt's own tokens, of the token that follows one, of a reply's.

Servers differ in what they offer, so there are three ways. The first tells most: all tokens of a text in one request
(``echo`` with ``logprobs``). The second asks for one token after a part of the text. The third lists what stood beside
each token of a chat reply (``top_logprobs``).
"""

import heapq
import math
from collections.abc import Mapping, Sequence
from enum import StrEnum
from typing import Any, Protocol, TypeGuard, runtime_checkable

import msgspec

from kettlefield.core.statistics.next_token import Position


class Scores(msgspec.Struct, frozen=True, kw_only=True):
    """What a server said of a text."""

    positions: tuple[Position, ...] = ()
    fault: str = ""  # why it said nothing that can be used


class Way(StrEnum):
    """How a server tells log-probabilities, the one that tells most first."""

    PROMPT = "prompt"  # of all tokens of a text
    SAMPLED = "sampled positions"  # of what follows a part of it
    REPLIES = "replies"  # of its own reply to a chat
    NONE = "none"


@runtime_checkable
class Scorer(Protocol):
    """A client whose server can be asked how likely a text is; a server's failure is in the result, not raised."""

    async def score(self, text: str, *, begins: int, top: int) -> Scores:
        """The tokens of a text from a character on."""
        ...

    async def score_next(self, text: str, *, top: int) -> Scores:
        """The likeliest tokens after a text: one position, whose token is the likeliest."""
        ...

    async def score_reply(self, messages: Sequence[Mapping[str, str]], *, most_tokens: int, top: int) -> Scores:
        """The tokens of the likeliest reply to a chat, token by token."""
        ...


class Telling(msgspec.Struct, frozen=True, kw_only=True):
    """How a server tells log-probabilities, as it was found out."""

    way: Way
    refused: Mapping[str, str]  # why not in the ways before it

    @property
    def words(self) -> str:
        """Why they are of no use, where it tells none."""
        tried = "; ".join(f"{way}: it {why}" for way, why in self.refused.items())
        return f"the server tells no log-probabilities: {tried}"


PROBE = "Berth 4 is clear.\nBerth 5 is clear.\nBerth 6 is"


async def find_way(client: object, *, is_chat: bool, top: int) -> Telling:
    """Try the ways in which servers tell log-probabilities, on a short text, until one serves.

    Parameters
    ----------
    client : object
        Of a server that is ready.
    is_chat : bool
        Whether the plan asks it by chat: only then are its replies of use.
    top : int
        Likeliest tokens that are to be listed.
    """
    if not isinstance(client, Scorer):
        return Telling(way=Way.NONE, refused={Way.PROMPT: "has none in its protocol"})
    said: dict[str, str] = {}
    for way in (Way.PROMPT, Way.SAMPLED, *((Way.REPLIES,) if is_chat else ())):
        if way is Way.PROMPT:
            scores = await client.score(PROBE, begins=len("Berth 4"), top=top)
        elif way is Way.SAMPLED:
            scores = await client.score_next(PROBE, top=top)
        else:
            scores = await client.score_reply([{"role": "user", "content": PROBE}], most_tokens=4, top=top)
        if not scores.fault and any(position.top for position in scores.positions):
            return Telling(way=way, refused=said)
        said[way] = scores.fault or "lists no tokens"
    return Telling(way=Way.NONE, refused=said)


def next_request(text: str, top: int) -> dict[str, Any]:
    """The fields of a request for the token after a text."""
    return {"prompt": text, "max_tokens": 1, "temperature": 0, "logprobs": top, "stream": False}


def read_next(answer: Any, top: int) -> Scores:
    """The one position of an answer to `next_request`."""
    found = _logprobs_of(answer)
    if isinstance(found, Scores):
        return found
    tokens, tops = found.get("tokens"), found.get("top_logprobs")
    if not _are_texts(tokens) or not isinstance(tops, list) or len(tops) != len(tokens):
        return Scores(fault="returns log-probabilities in another shape: it lists no likeliest tokens")
    if not tokens:
        return Scores(fault="gives no token after the text")
    held = _likeliest(tops[0], top)
    if held is None:
        return Scores(fault="returns log-probabilities in another shape: one of them is no number")
    return Scores(positions=(Position(tokens[0], None, held),))


def reply_request(messages: Sequence[Mapping[str, str]], most_tokens: int, top: int) -> dict[str, Any]:
    """The fields of a chat request whose reply is listed token by token."""
    return {
        "messages": list(messages),
        "max_tokens": most_tokens,
        "temperature": 0,
        "logprobs": True,
        "top_logprobs": top,
        "stream": False,
    }


def read_reply(answer: Any, top: int) -> Scores:
    """The positions of a chat reply in an answer to `reply_request`."""
    found = _logprobs_of(answer)
    if isinstance(found, Scores):
        return found
    listed = found.get("content")
    if not isinstance(listed, list) or not all(isinstance(one, dict) for one in listed):
        return Scores(fault="returns log-probabilities in another shape: they have no content")
    positions = []
    for one in listed:
        token, logprob, tops = one.get("token"), one.get("logprob"), one.get("top_logprobs")
        if not isinstance(token, str) or not _is_logprob(logprob) or not isinstance(tops, list):
            return Scores(fault="returns log-probabilities in another shape: a token is not listed as one")
        try:
            held = _likeliest({other["token"]: other["logprob"] for other in tops}, top)
        except (TypeError, KeyError):
            held = None
        if held is None:
            return Scores(fault="returns log-probabilities in another shape: one of them is no number")
        positions.append(Position(token, float(logprob), held))
    return Scores(positions=tuple(positions)) if positions else Scores(fault="gives no reply")


def _logprobs_of(answer: Any) -> dict[str, Any] | Scores:
    try:
        found = answer["choices"][0].get("logprobs")
    except (TypeError, KeyError, IndexError, AttributeError):
        return Scores(fault="answers in another shape: it has no choices")
    return found if isinstance(found, dict) else Scores(fault="returns no log-probabilities")


def _likeliest(listed: Any, top: int) -> dict[str, float] | None:
    """The likeliest of a list, which may be longer than was asked for; none where something else stands there."""
    if not isinstance(listed, dict) or not all(map(_is_logprob, listed.values())):
        return None
    return {name: float(value) for name, value in heapq.nlargest(top, listed.items(), key=lambda pair: pair[1])}


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
    found = _logprobs_of(answer)
    if isinstance(found, Scores):
        return found
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
            held = _likeliest(listed, top)
            if not _is_logprob(logprob) or held is None:
                return Scores(fault="returns log-probabilities in another shape: one of them is no number")
            positions.append(Position(token, float(logprob), held))
        place += len(token)
    return Scores(positions=tuple(positions))


def _are_texts(tokens: object) -> TypeGuard[list[str]]:
    return isinstance(tokens, list) and all(isinstance(token, str) for token in tokens)


def _is_logprob(value: object) -> TypeGuard[float]:
    return isinstance(value, int | float) and not isinstance(value, bool) and math.isfinite(value) and value <= 1e-6


def pack_positions(positions: Sequence[Position]) -> list[list[Any]]:
    """Positions as plain data, rounded to what tells levels apart: ``[token, logprob, {token: logprob}]``."""
    return [
        [one.token, one.logprob and round(one.logprob, 6), {token: round(value, 6) for token, value in one.top.items()}]
        for one in positions
    ]


def unpack_positions(held: Sequence[Sequence[Any]]) -> tuple[Position, ...]:
    """What `pack_positions` made, back as positions."""
    return tuple(Position(token, None if logprob is None else float(logprob), top) for token, logprob, top in held)
