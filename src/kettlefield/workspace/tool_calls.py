"""Calls of tools in a reply: as the chat-completions API has them, or as fenced JSON blocks; and how they go back."""

import json
from collections.abc import Sequence
from typing import Any, Literal

from kettlefield.core.extraction.fences import find_blocks
from kettlefield.core.plaintext import shorten
from kettlefield.server.exchange import Exchange, ToolCall
from kettlefield.workspace.tools import Call

CallForm = Literal["functions", "blocks"]
MOST_CALLS = 32  # of one reply; more are not carried out
_TAGS = frozenset({"json", "tool", "tool_call", ""})  # of blocks that may hold a call
_OPENS, _CLOSES = "<tool_call>", "</tool_call>"
_SHOWN = 200  # characters of arguments that could not be read


def calls_in(exchange: Exchange, form: CallForm, *, first: int) -> list[Call]:
    """The calls of a reply, in order; ``first`` is the number of the first, for those without an id of their own."""
    written = list(exchange.tool_calls) if form == "functions" else _in_blocks(exchange.text)
    return [_read(one, first + number, cut=exchange.cap_hit) for number, one in enumerate(written[: 2 * MOST_CALLS])]


def _in_blocks(text: str) -> list[ToolCall]:
    """The calls that a reply holds as JSON: in blocks, between the tags that models are trained with, or all of it."""
    pieces = [
        block.text
        for block in find_blocks(text)
        if (block.info.split(maxsplit=1)[0].lower() if block.info else "") in _TAGS
    ]
    pieces += _between_tags(text)
    if not pieces and text.strip().startswith(("{", "[")):
        pieces = [text]
    return [call for piece in pieces for call in _written(piece)]


def _between_tags(text: str) -> list[str]:
    """What stands between an opening tag and the next closing one; each is looked for once."""
    pieces: list[str] = []
    at = 0
    while len(pieces) < MOST_CALLS:
        begin = text.find(_OPENS, at)
        end = text.find(_CLOSES, begin + len(_OPENS)) if begin >= 0 else -1
        if end < 0:
            break
        pieces.append(text[begin + len(_OPENS) : end])
        at = end + len(_CLOSES)
    return pieces


def _written(piece: str) -> list[ToolCall]:
    """The calls of one piece of JSON; one that names a tool and cannot be read counts as a call that fails."""
    if not any(key in piece for key in ('"tool"', '"name"')):
        return []
    try:
        value = json.loads(piece)
    except (ValueError, RecursionError):
        # of "name" alone it may be any JSON that a model shows
        return [ToolCall(id="", name="", arguments=piece)] if '"tool"' in piece or '"arguments"' in piece else []
    calls = []
    for whole in value if isinstance(value, list) else [value]:
        name: object = whole.get("tool", whole.get("name")) if isinstance(whole, dict) else None
        if isinstance(name, str) and ("tool" in whole or "arguments" in whole):
            calls.append(ToolCall(id="", name=name, arguments=json.dumps(whole.get("arguments", {}))))
    return calls


def _read(call: ToolCall, number: int, *, cut: bool) -> Call:
    arguments = _object(call.arguments or "{}")
    fault = ""
    if arguments is None:
        why = "the reply was cut at its limit of tokens" if cut else "they are not a JSON object"
        fault = f"The arguments cannot be read: {why}."
    return Call(
        id=call.id or f"call_{number}", tool=call.name, written=call.arguments, arguments=arguments, fault=fault
    )


def _object(text: str) -> dict[str, Any] | None:
    try:
        value = json.loads(text)
    except (ValueError, RecursionError):
        return None
    return value if isinstance(value, dict) else None


def reply_message(exchange: Exchange, calls: Sequence[Call], form: CallForm) -> dict[str, Any]:
    """The model's own reply, as it goes back in the conversation.

    Templates of servers read the arguments, and some fail over what is not JSON: such go back as an object that
    shows how they began.
    """
    if form == "blocks" or not calls:
        return {"role": "assistant", "content": exchange.text}
    return {
        "role": "assistant",
        "content": exchange.text,
        "tool_calls": [
            {
                "id": call.id,
                "type": "function",
                "function": {
                    "name": call.tool,
                    "arguments": call.written
                    if call.arguments is not None
                    else json.dumps({"unreadable": shorten(call.written, _SHOWN)}),
                },
            }
            for call in calls
        ],
    }


def result_messages(calls: Sequence[Call], results: Sequence[str], form: CallForm) -> list[dict[str, Any]]:
    """What the tools gave, as it goes back: a message for each call, or one with all of them."""
    if form == "functions":
        return [
            {"role": "tool", "tool_call_id": call.id, "content": text}
            for call, text in zip(calls, results, strict=True)
        ]
    parts = [f"Result of {call.tool or 'the call'}:\n{text}" for call, text in zip(calls, results, strict=True)]
    return [{"role": "user", "content": "\n\n".join(parts)}]
