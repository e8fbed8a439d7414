"""The preflight check at the start of a session: is the prompt style right, which settings does the server take?"""

import dataclasses
from collections.abc import Mapping
from typing import Any

from kettlefield.campaign.prompts import render_text
from kettlefield.core.extraction.reply_symptoms import ASKED, differing_echoes, signs_of_wrong_style
from kettlefield.plan.tables import PromptingTable, SamplingTable
from kettlefield.server.exchange import Ask, ChatClient, Exchange

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


@dataclasses.dataclass(frozen=True, slots=True, kw_only=True)
class Preflight:
    """The check's exchanges and what they tell."""

    exchanges: tuple[Exchange, ...]
    warnings: tuple[str, ...]
    refusal: str | None  # the server answers nothing under these settings
    neutral: Mapping[str, float]  # settings that do nothing, as the server accepts them: sent with every request
    refused: tuple[str, ...]  # neutral settings that it refuses: they stay at a default that is not known

    @property
    def facts(self) -> dict[str, Any]:
        """For the record."""
        return {"neutral": dict(self.neutral), "unknown_default": list(self.refused)}


def short_request(prompting: PromptingTable, sampling: dict[str, object]) -> Ask:
    """The short known request."""
    return dataclasses.replace(render_text(ASKED, prompting), sampling={**sampling, "max_tokens": PREFLIGHT_TOKENS})


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
            warnings=(),
            refusal=await _why(client, prompting, first, exchanges),
            neutral={},
            refused=tuple(left_open),
        )
    ask = short_request(prompting, {**neutral, **sampling})
    second = await client.ask(ask)
    exchanges.append(second)
    warnings = list(signs_of_wrong_style(first.text, cap_hit=first.cap_hit))
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
        exchanges=tuple(exchanges), warnings=tuple(warnings), refusal=None, neutral=neutral, refused=refused
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
            exchange = await client.ask(dataclasses.replace(ask, sampling={**ask.sampling, "max_tokens": 1}))
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
