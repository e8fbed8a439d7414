"""Whether a server carries out function calling: seen by offering one tool and asking for its call."""

from collections.abc import Mapping

import msgspec

from kettlefield.core.plaintext import shorten, visible
from kettlefield.plan.candidates import Candidate
from kettlefield.server.exchange import Ask, ChatClient, Exchange
from kettlefield.workspace.tool_calls import CallForm
from kettlefield.workspace.tools import PROBE_WISH, PROBED

PROBE_TOKENS = 512  # a model that thinks first needs some


class ToolSupport(msgspec.Struct, frozen=True, kw_only=True):
    """How a candidate's tools are called."""

    form: CallForm | None  # None: not at all, since the plan wants what the server lacks
    words: str  # what should be known; empty: nothing
    exchange: Exchange | None = None


async def find_call_form(client: ChatClient, candidate: Candidate, sampling: Mapping[str, object]) -> ToolSupport:
    """The form in which tools are offered, as the plan has it and the server allows it.

    Parameters
    ----------
    client : ChatClient
        Of a server that is ready.
    candidate : Candidate
        Its ``[workspaces]`` says what is wanted.
    sampling : mapping
        The settings as they go over the wire.
    """
    wanted = candidate.workspaces.call_form
    if wanted == "blocks":
        return ToolSupport(form="blocks", words="")
    ask = Ask(
        messages=({"role": "user", "content": PROBE_WISH},),
        sampling={**sampling, "max_tokens": PROBE_TOKENS},
        tools=(PROBED.schema(),),
    )
    exchange = await client.ask(ask)
    if any(call.name == PROBED.name for call in exchange.tool_calls):
        return ToolSupport(form="functions", words="", exchange=exchange)
    why = (
        f"it {exchange.fault}"
        if exchange.fault is not None
        else f'it replied "{shorten(visible(exchange.text, keep_lines=False).strip(), 80)}" and called nothing'
    )
    if wanted == "functions":
        words = f"function calling does not work here ({why}): exercises in a workspace are not measured"
        return ToolSupport(form=None, words=words, exchange=exchange)
    words = f"function calling does not work here ({why}): tools are described in the prompt and called in JSON blocks"
    return ToolSupport(form="blocks", words=words, exchange=exchange)
