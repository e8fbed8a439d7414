"""The preflight check: prompt style, settings that the server takes, prompts that its context cannot hold.

Two prompts are counted by the server; from their characters a token it follows which others come near the context,
and those are counted too. Where the server counts nothing, nothing is said.
"""

from collections.abc import Mapping
from typing import Any

import msgspec

from kettlefield.campaign.prompts import render_exercise, render_text
from kettlefield.core.extraction.reply_symptoms import ASKED, differing_echoes, signs_of_wrong_style
from kettlefield.measure.procedure import GUESSED_CHARS_PER_TOKEN
from kettlefield.plan.candidates import Candidate
from kettlefield.plan.tables import PromptingTable, SamplingTable
from kettlefield.server.exchange import Ask, ChatClient, Exchange, count_prompt
from kettlefield.suite.format import Exercise

PREFLIGHT_TOKENS = 48  # many times what one word takes
# what servers have defaults of their own for, with the values that do nothing; of several the first that is accepted
NEUTRAL: dict[str, tuple[float, ...]] = {
    "top_k": (0, -1),
    "min_p": (0.0,),
    "repeat_penalty": (1.0,),
    "repetition_penalty": (1.0,),
    "presence_penalty": (0.0,),
    "frequency_penalty": (0.0,),
}
_SAME = ({"repeat_penalty", "repetition_penalty"},)  # two names of one setting


class Preflight(msgspec.Struct, frozen=True, kw_only=True):
    """The check's exchanges and what they tell."""

    exchanges: tuple[Exchange, ...]
    wrong_style: tuple[str, ...]  # what tells that the model does not know the form in which it is asked
    warnings: tuple[str, ...]  # anything else that a reader should know
    refusal: str | None  # the server answers nothing under these settings
    neutral: Mapping[str, float]  # settings that do nothing, as the server accepts them: sent with every request
    refused: tuple[str, ...]  # neutral settings that it refuses: they stay at a default that is not known

    @property
    def facts(self) -> dict[str, Any]:
        """For the record."""
        return {
            "neutral": dict(self.neutral),
            "unknown_default": list(self.refused),
            "wrong_style": list(self.wrong_style),
        }


def short_request(prompting: PromptingTable, sampling: dict[str, object]) -> Ask:
    """The short known request."""
    return msgspec.structs.replace(render_text(ASKED, prompting), sampling={**sampling, "max_tokens": PREFLIGHT_TOKENS})


def neutral_settings(table: SamplingTable) -> dict[str, float]:
    """The settings that a plan leaves open, each with the first value that does nothing."""
    set_by_plan = set(table.extra) | {
        name for name in ("top_k", "min_p", "repeat_penalty") if getattr(table, name) is not None
    }
    for names in _SAME:
        if names & set_by_plan:
            set_by_plan |= names
    return {name: values[0] for name, values in NEUTRAL.items() if name not in set_by_plan}


async def check_session(
    client: ChatClient, prompting: PromptingTable, table: SamplingTable, sampling: dict[str, object]
) -> Preflight:
    """Put one short request until it is known which settings the server takes and whether its seed holds.

    Parameters
    ----------
    client : ChatClient
        Of a server that is ready.
    prompting, table : PromptingTable, SamplingTable
        The candidate's.
    sampling : dict
        The plan's settings as they go over the wire.
    """
    left_open = neutral_settings(table)
    neutral = left_open if table.neutral else {}
    exchanges = [await client.ask(short_request(prompting, {**neutral, **sampling}))]
    if exchanges[0].refused and neutral:
        neutral = await _accepted(client, prompting, sampling, neutral, exchanges)
    first = exchanges[-1]
    refused = tuple(name for name in left_open if name not in neutral)
    if first.fault is not None:
        return Preflight(
            exchanges=tuple(exchanges),
            wrong_style=(),
            warnings=(),
            refusal=await _why(client, prompting, first, exchanges),
            neutral={},
            refused=tuple(left_open),
        )
    ask = short_request(prompting, {**neutral, **sampling})
    second = await client.ask(ask)
    exchanges.append(second)
    warnings = []
    if second.fault is None and _said(first) != _said(second):
        # the first prompt was read, the second may come from the prompt cache, which rounds otherwise
        third = await client.ask(ask)
        exchanges.append(third)
        if third.fault is None and _said(second) != _said(third):
            warnings.append("the same request with the same seed gave two replies: the server ignores the seed")
    sent = {**neutral, **sampling, "max_tokens": PREFLIGHT_TOKENS}
    for name, value in differing_echoes(sent, first.echo).items():
        warnings.append(f"the server says {name} is {value}, sent was {sent[name]}")
    return Preflight(
        exchanges=tuple(exchanges),
        wrong_style=signs_of_wrong_style(first.text, cap_hit=first.cap_hit),
        warnings=tuple(warnings),
        refusal=None,
        neutral=neutral,
        refused=refused,
    )


def _said(exchange: Exchange) -> tuple[str, str]:
    return exchange.text, exchange.thinking


async def _accepted(
    client: ChatClient,
    prompting: PromptingTable,
    sampling: dict[str, object],
    neutral: dict[str, float],
    exchanges: list[Exchange],
) -> dict[str, float]:
    """Those neutral settings that the server takes, each tried by itself; the last exchange is with all of them."""
    exchanges.append(await client.ask(short_request(prompting, sampling)))
    if exchanges[-1].fault is not None:
        return {}  # something else is refused
    taken: dict[str, float] = {}
    for name in neutral:
        for value in NEUTRAL[name]:
            ask = short_request(prompting, {name: value, **sampling})
            exchange = await client.ask(msgspec.structs.replace(ask, sampling={**ask.sampling, "max_tokens": 1}))
            exchanges.append(exchange)
            if exchange.fault is None:
                taken[name] = value
                break
    exchanges.append(await client.ask(short_request(prompting, {**taken, **sampling})))
    return taken


async def _why(client: ChatClient, prompting: PromptingTable, first: Exchange, exchanges: list[Exchange]) -> str:
    """What a failed request is put down to: a refused setting only where the server answered that it refuses."""
    assert first.fault is not None  # noqa: S101 - asked for of a fault only
    if not first.refused:
        return first.fault
    bare = await client.ask(short_request(prompting, {}))
    exchanges.append(bare)
    hint = "; without the plan's sampling settings it answers: one of them is refused" if bare.fault is None else ""
    return f"{first.fault}{hint}"


CUT_BELOW = 0.9  # of the tokens that were expected: a prompt that counts fewer was not read whole
NEAR = 0.75  # of the context: a prompt that is estimated below this share fits, whatever its text


class Fit(msgspec.Struct, frozen=True, kw_only=True):
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
        exchange = await count_prompt(client, msgspec.structs.replace(ask, sampling=dict(sampling)))
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
            exchange = await count_prompt(client, msgspec.structs.replace(ask, sampling=dict(sampling)))
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
