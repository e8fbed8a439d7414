"""The guard at the start of a session: is the prompt style right, and does the server heed the settings?"""

import dataclasses

from kettlefield.campaign.prompts import render_text
from kettlefield.campaign.tables import PromptingTable
from kettlefield.core.wrongstyle import ASKED, differing_echoes, signs_of_wrong_style
from kettlefield.server.exchange import Ask, ChatClient, Exchange

GUARD_TOKENS = 48  # many times what one word takes


@dataclasses.dataclass(frozen=True, slots=True, kw_only=True)
class Guarded:
    """The guard's exchanges and what they tell."""

    exchanges: tuple[Exchange, ...]
    warnings: tuple[str, ...]
    refusal: str | None  # the server answers nothing under these settings


def short_request(prompting: PromptingTable, sampling: dict[str, object]) -> Ask:
    """The short known request."""
    return dataclasses.replace(render_text(ASKED, prompting), sampling={**sampling, "max_tokens": GUARD_TOKENS})


async def guard_session(client: ChatClient, prompting: PromptingTable, sampling: dict[str, object]) -> Guarded:
    """Put one short request twice, with the same seed.

    A request that fails as a whole is tried again without settings, to tell a refused setting from a
    server that is broken.
    """
    ask = short_request(prompting, sampling)
    first = await client.ask(ask)
    if first.fault is not None:
        bare = await client.ask(dataclasses.replace(ask, sampling={"max_tokens": GUARD_TOKENS}))
        hint = "; without the plan's sampling settings it answers: one of them is refused" if bare.fault is None else ""
        return Guarded(exchanges=(first, bare), warnings=(), refusal=f"{first.fault}{hint}")
    second = await client.ask(ask)
    warnings = list(signs_of_wrong_style(first.text, cap_hit=first.cap_hit))
    if second.fault is None and (first.text, first.thinking) != (second.text, second.thinking):
        warnings.append("the same request with the same seed gave two replies: the seed is not heeded")
    for name, value in differing_echoes({**sampling, "max_tokens": GUARD_TOKENS}, first.echo).items():
        warnings.append(f"the server says {name} is {value}, sent was {sampling.get(name, GUARD_TOKENS)}")
    return Guarded(exchanges=(first, second), warnings=tuple(warnings), refusal=None)
