"""How a made-up model works in a repository: calls that solve a ticket, half solve it, go in circles or go wrong.

What it does at a turn follows from the exercise, the seed and the number of its own messages in the conversation, so
the same conversation always continues the same way.
"""

import difflib
import json
import random
from collections.abc import Mapping, Sequence
from typing import Any

import msgspec

from kettlefield.core.extraction.file_diffs import diff_of
from kettlefield.suite.format import Exercise

Calls = tuple[tuple[str, str], ...]  # tool and arguments, as JSON or what passes for it
READ_AT_ONCE = 3  # files a turn
SLIP_SHARE = 0.3  # of runs in which a call is broken JSON, or an edit does not fit at first
LOOP_SHARE, STOP_SHARE = 0.25, 0.2  # of runs that do not solve the ticket
WAYS = ("half", "loop", "stop")
BLOCKS_SAID = "To call one, write a block of JSON"  # of the prompt that describes the tools


class WorkTurn(msgspec.Struct, frozen=True, kw_only=True):
    """One reply of a run."""

    text: str
    calls: Calls


def is_work(body: Mapping[str, Any], prompt: str) -> bool:
    """Whether a request is a turn of work in a repository, in either form."""
    return bool(body.get("tools")) or BLOCKS_SAID in prompt


def play(
    exercise: Exercise,
    messages: Sequence[Mapping[str, Any]],
    tools: frozenset[str],
    *,
    solves: bool,
    rng: random.Random,
) -> WorkTurn:
    """The next turn of a run.

    Parameters
    ----------
    exercise : Exercise
        Set in a workspace.
    messages : sequence of mapping
        The conversation so far.
    tools : frozenset of str
        Names of those that are offered.
    solves : bool
        Whether this model solves it with this seed.
    rng : Random
        The run's luck.
    """
    turns = _script(exercise, tools, solves=solves, rng=rng)
    done = [message.get("role") for message in messages].count("assistant")
    return turns[min(done, len(turns) - 1)]


def as_blocks(turn: WorkTurn) -> str:
    """The turn with its calls written as blocks of JSON."""
    blocks = [f'```json\n{{"tool": "{name}", "arguments": {arguments}}}\n```' for name, arguments in turn.calls]
    return "\n\n".join([turn.text, *blocks])


def _script(exercise: Exercise, tools: frozenset[str], *, solves: bool, rng: random.Random) -> list[WorkTurn]:
    way: str = "solve" if solves else rng.choices(WAYS, (1 - LOOP_SHARE - STOP_SHARE, LOOP_SHARE, STOP_SHARE))[0]
    after = exercise.answer if solves else exercise.decoys[rng.choice(exercise.spec.decoy).name]
    changed = sorted(name for name in {*exercise.workspace, *after} if exercise.workspace.get(name) != after.get(name))
    there = [name for name in changed if name in exercise.workspace]
    turns = [WorkTurn(text="First I look at the files.", calls=(_call("list_files", path="."),))]
    for at in range(0, len(there), READ_AT_ONCE):
        reads = tuple(_call("read_file", path=name) for name in there[at : at + READ_AT_ONCE])
        turns.append(WorkTurn(text="Now the files that matter.", calls=reads))
    if way == "stop":
        return [
            *turns,
            WorkTurn(text="The change should be made in these files. Let me know if I should continue.", calls=()),
        ]
    if way == "loop":
        circle = _call("search", pattern="TODO", path=".")
        return [*turns, WorkTurn(text="I look for the place.", calls=(circle,))]
    slip = rng.random() < SLIP_SHARE
    if slip:
        broken = rng.random() < 0.5 or not there
        wrong = ("read_file", '{"path": "README.md"') if broken else _misfit(there[0], tools)
        turns.append(WorkTurn(text="", calls=(wrong,)))
    for name in changed:
        calls = _edits(name, exercise.workspace.get(name), after.get(name), tools, rng)
        turns.append(WorkTurn(text=f"I change {name}.", calls=calls))
    table = exercise.spec.workspace
    if table is not None and table.commands:
        turns.append(WorkTurn(text="", calls=(_call("run", command=next(iter(table.commands))),)))
    return [*turns, WorkTurn(text="", calls=(_call("finish", summary="The ticket is done."),))]


def _call(tool: str, **arguments: object) -> tuple[str, str]:
    return tool, json.dumps(arguments)


def _misfit(name: str, tools: frozenset[str]) -> tuple[str, str]:
    """An edit from memory, which does not fit."""
    if "replace_text" in tools:
        return _call("replace_text", path=name, old="def handle_everything(", new="def handle(")
    if "apply_patch" in tools:
        return _call("apply_patch", path=name, diff="@@ -1,2 +1,2 @@\n-not a line of it\n+nor is this\n")
    return _call("write_file", path=f"../{name}", content="")


def _edits(name: str, before: str | None, after: str | None, tools: frozenset[str], rng: random.Random) -> Calls:
    """What makes a file what it shall be, by one of the tools that are offered."""
    if after is None:
        return (_call("delete_file", path=name),)
    fitting: list[str] = [tool for tool in ("replace_text", "apply_patch") if tool in tools and before is not None]
    if "write_file" in tools:
        fitting.append("write_file")
    way = rng.choice(fitting) if fitting else "apply_patch"
    if way == "write_file":
        return (_call("write_file", path=name, content=after),)
    if way == "replace_text" and before is not None:
        return tuple(_call("replace_text", path=name, old=old, new=new) for old, new in _replacements(before, after))
    given = {} if before is None else {name: before}
    return (_call("apply_patch", path=name, diff=diff_of(given, {name: after})),)


def _replacements(before: str, after: str) -> list[tuple[str, str]]:
    """Pieces that stand once in a file, and what stands there afterwards; the last first, so that each still fits."""
    old, new = before.splitlines(keepends=True), after.splitlines(keepends=True)
    pieces = []
    for kind, low, high, new_low, new_high in reversed(difflib.SequenceMatcher(None, old, new, False).get_opcodes()):
        if kind == "equal":
            continue
        first, last = low, high
        while before.count("".join(old[first:last])) != 1 or first == last:
            if first == 0 and last == len(old):
                return [(before, after)] if before else []
            first, last = max(0, first - 1), min(len(old), last + 1)
        pieces.append(("".join(old[first:last]), "".join([*old[first:low], *new[new_low:new_high], *old[high:last]])))
    texts = before
    for piece, becomes in pieces:
        if texts.count(piece) != 1:  # pieces overlap: the whole at once
            return [(before, after)]
        texts = texts.replace(piece, becomes)
    return pieces
