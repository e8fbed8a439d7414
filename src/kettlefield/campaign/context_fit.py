"""Which exercises' prompts a candidate's context cannot hold: known before they are asked.

Two prompts are counted by the server; from their characters a token it follows which others come near the context,
and those are counted too. Where the server counts nothing, nothing is said.
"""

import dataclasses
from collections.abc import Mapping

from kettlefield.campaign.prompts import render_exercise
from kettlefield.measure.procedure import GUESSED_CHARS_PER_TOKEN
from kettlefield.plan.plan import Candidate
from kettlefield.server.exchange import Ask, ChatClient, Exchange, count_prompt
from kettlefield.suite.format import Exercise

CUT_BELOW = 0.9  # of the tokens that were expected: a prompt that counts fewer was not read whole
NEAR = 0.75  # of the context: a prompt that is estimated below this share fits, whatever its text


@dataclasses.dataclass(frozen=True, slots=True, kw_only=True)
class Fit:
    """What is known of a candidate's prompts."""

    over: Mapping[str, str]  # exercise -> why it cannot be asked
    chars_per_token: float | None  # as counted; None: the server counts nothing
    exchanges: tuple[Exchange, ...]


def prompt_chars(ask: Ask) -> int:
    """Characters of everything that is sent."""
    return sum(len(message["content"]) for message in ask.messages)


async def find_fit(
    client: ChatClient, candidate: Candidate, exercises: tuple[Exercise, ...], sampling: Mapping[str, object]
) -> Fit:
    """See which prompts do not leave room for one token of a reply.

    Parameters
    ----------
    client : ChatClient
        Of a server that is ready.
    candidate : Candidate
        Its context, in tokens, is what prompts must fit.
    exercises : tuple of Exercise
        Those that are to be asked.
    sampling : Mapping
        The settings as they go over the wire.
    """
    asks = sorted(
        ((exercise.id, render_exercise(exercise, candidate.prompting)) for exercise in exercises),
        key=lambda pair: (prompt_chars(pair[1]), pair[0]),
    )
    context, over, exchanges = candidate.server.context, {}, []
    ratios: list[float] = []
    counted: set[str] = set()
    # the middle one first: the longest may be refused
    for name, ask in [asks[len(asks) // 2], asks[-1]] if asks else []:
        exchange = await count_prompt(client, dataclasses.replace(ask, sampling=dict(sampling)))
        exchanges.append(exchange)
        counted.add(name)
        tokens = exchange.trace.prompt_tokens
        if exchange.fault is None and tokens:
            ratios.append(prompt_chars(ask) / tokens)
        if (why := _why_over(exchange, context, _expected(ask, ratios))) is not None:
            over[name] = why
    if not ratios:
        return Fit(over=over, chars_per_token=None, exchanges=tuple(exchanges))
    for name, ask in asks:
        if name not in counted and prompt_chars(ask) / min(ratios) > NEAR * context:
            exchange = await count_prompt(client, dataclasses.replace(ask, sampling=dict(sampling)))
            exchanges.append(exchange)
            if (why := _why_over(exchange, context, _expected(ask, ratios))) is not None:
                over[name] = why
    return Fit(over=over, chars_per_token=sum(ratios) / len(ratios), exchanges=tuple(exchanges))


def _expected(ask: Ask, ratios: list[float]) -> float:
    """Tokens of a prompt by the first that was counted, which is short enough to have been read whole."""
    return prompt_chars(ask) / ratios[0] if ratios else 0.0


def _why_over(exchange: Exchange, context: int, expected: float) -> str | None:
    if exchange.over_context:
        return f"the server {exchange.fault}"
    tokens = exchange.trace.prompt_tokens
    if exchange.fault is not None or tokens is None:
        return None
    if tokens >= context:
        return f"its prompt has {tokens:,} tokens, the context holds {context:,}"
    if expected >= context and tokens < CUT_BELOW * expected:
        return f"the server cut its prompt to {tokens:,} of some {expected:,.0f} tokens, the context holds {context:,}"
    return None


def prompt_tokens(
    candidate: Candidate, exercises: tuple[Exercise, ...], chars_per_token: float | None
) -> dict[str, int]:
    """Each exercise's prompt in tokens, by estimate.

    Parameters
    ----------
    candidate, exercises : Candidate, tuple of Exercise
        How they are asked, and which.
    chars_per_token : float or None
        As a server counted; None: by a guess, which whoever shows this must mark.
    """
    ratio = chars_per_token or GUESSED_CHARS_PER_TOKEN
    return {e.id: round(prompt_chars(render_exercise(e, candidate.prompting)) / ratio) for e in exercises}
