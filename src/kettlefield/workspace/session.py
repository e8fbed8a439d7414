"""One run of a model in a workspace: its conversation, the calls that are carried out, and why it ends."""

import time
from collections.abc import Callable, Mapping, Sequence
from enum import StrEnum
from typing import Any

import msgspec

from kettlefield.measure.procedure import GUESSED_CHARS_PER_TOKEN
from kettlefield.server.exchange import Exchange
from kettlefield.suite.format import WorkspaceTable
from kettlefield.workspace.tool_calls import MOST_CALLS, CallForm, calls_in, reply_message, result_messages
from kettlefield.workspace.tools import TOOLS, Call, Tool, checked_arguments, cut_result
from kettlefield.workspace.tree import Reason, ToolError, Tree

LOOP = 3  # times that the same call comes while nothing changes
LEFT_OUT = "[This result was left out, since the context is nearly full. Call the tool again if it is needed.]"
NUDGE = "No tool was called. Continue with the tools, and call `finish` when the work is done."
UNREADABLE = "unreadable"  # in the place of a tool's name, where the block that names it cannot be read
ROOM = 0.02  # of the context that is kept free beside the reply: an estimate is a little off


class End(StrEnum):
    """Why a run ended."""

    FINISHED = "finished"  # the model called finish
    STOPPED = "stopped"  # it called no tool, twice in a row
    OVER_TURNS = "over-turns"
    OVER_CALLS = "over-calls"
    OVER_TOKENS = "over-tokens"
    OVER_TIME = "over-time"
    OVER_CONTEXT = "over-context"
    LOOPING = "looping"
    SERVER_FAULT = "server-fault"


class Done(msgspec.Struct, frozen=True, kw_only=True):
    """One call that was carried out, or refused."""

    tool: str
    arguments: str  # as the model wrote them
    result: str  # as it went back
    wall_s: float
    reason: Reason | None = None  # why it failed; None: it did not
    is_edit: bool = False


class Turn(msgspec.Struct, frozen=True, kw_only=True):
    """What followed one reply."""

    calls: tuple[Done, ...]
    results_left_out: int  # earlier results that were left out of the conversation to make room, after this turn


class Session(msgspec.Struct, kw_only=True):
    """A run under way."""

    tree: Tree
    table: WorkspaceTable
    tools: Sequence[Tool]
    form: CallForm
    opening: Sequence[Mapping[str, Any]]  # the messages that put the task
    context_tokens: int
    reply_tokens: int  # that a reply may have
    run_command: Callable[[str, Mapping[str, str]], str]  # a command's line and the files; what it prints
    messages: list[dict[str, Any]] = msgspec.field(default_factory=list)  # begins with the opening
    turns: list[Turn] = msgspec.field(default_factory=list)
    end: End | None = None
    calls: int = 0
    tokens: int = 0  # that the model wrote
    _results: list[int] = msgspec.field(default_factory=list)  # places of messages that hold results, oldest first
    _seen: dict[tuple[str, str], int] = msgspec.field(default_factory=dict)  # calls since anything changed
    _idle: int = 0  # replies in a row without a call
    _begun_s: float = msgspec.field(default_factory=time.monotonic)

    def __post_init__(self) -> None:
        self.messages = [dict(message) for message in self.opening]

    def take(self, exchange: Exchange) -> None:
        """Carry out what a reply asks for, and put reply and results into the conversation."""
        calls = calls_in(exchange, self.form, first=self.calls + 1)
        done = [self._carry_out(call) for call in calls[:MOST_CALLS]]
        done += [_refused(call, f"At most {MOST_CALLS} calls in one reply.") for call in calls[MOST_CALLS:]]
        self.calls += len(calls)
        self.tokens += exchange.trace.completion_tokens or _guessed(exchange.text)
        self.messages.append(reply_message(exchange, calls, self.form))
        added = result_messages(calls, [one.result for one in done], self.form) if calls else []
        self._idle = 0 if calls else self._idle + 1
        if not calls:
            added = [{"role": "user", "content": NUDGE}]
        else:
            self._results += range(len(self.messages), len(self.messages) + len(added))
        self.messages += added
        left_out = self._make_room(exchange, len(added))
        self.turns.append(Turn(calls=tuple(done), results_left_out=left_out))
        self.end = self.end or self._why_ended()

    def _why_ended(self) -> End | None:
        if self._idle > 1:
            return End.STOPPED
        over = (
            (End.OVER_CALLS, self.calls >= self.table.calls),
            (End.OVER_TOKENS, self.tokens >= self.table.tokens),
            (End.OVER_TIME, time.monotonic() - self._begun_s >= self.table.wall),
            (End.OVER_TURNS, len(self.turns) >= self.table.turns),
        )
        return next((end for end, is_over in over if is_over), None)

    def _carry_out(self, call: Call) -> Done:
        """One call; whatever is wrong with it goes back to the model in words."""
        begun_s = time.perf_counter()
        tool = next((one for one in self.tools if one.name == call.tool), None)
        reason = None
        try:
            if self.end is not None:
                raise ToolError(Reason.BAD_ARGUMENTS, "The work is finished already: nothing more is done.")
            text = self._result(tool, call)
        except ToolError as err:
            reason, text = err.reason, f"Error: {err.message}"
        self._notice(call, changed=reason is None and tool is not None and tool.is_edit)
        return Done(
            tool=call.tool or UNREADABLE,
            arguments=call.written,
            result=cut_result(text),
            wall_s=time.perf_counter() - begun_s,
            reason=reason,
            is_edit=(tool or TOOLS.get(call.tool, TOOLS["finish"])).is_edit,
        )

    def _result(self, tool: Tool | None, call: Call) -> str:
        if tool is None:
            names = ", ".join(one.name for one in self.tools)
            if call.arguments is None:
                raise ToolError(Reason.BAD_JSON, call.fault)
            raise ToolError(Reason.UNKNOWN_TOOL, f'There is no tool "{call.tool[:80]}". There are: {names}.')
        given = checked_arguments(tool, call)
        if tool.does is not None:
            return tool.does(self.tree, given)
        if tool.name == "run":
            line = self.table.commands.get(given["command"])
            if line is None:
                names = ", ".join(self.table.commands)
                raise ToolError(Reason.UNKNOWN_COMMAND, f"There is no such command. There are: {names}.")
            return self.run_command(line, self.tree.files)
        self.end = End.FINISHED
        return "The work is finished."

    def _notice(self, call: Call, *, changed: bool) -> None:
        """Whether the model goes in a circle: the same call again and again, and nothing changes between."""
        if changed:
            self._seen.clear()
        key = (call.tool, call.written)
        self._seen[key] = self._seen.get(key, 0) + 1
        if self._seen[key] >= LOOP and self.end is None:
            self.end = End.LOOPING

    def _make_room(self, exchange: Exchange, fresh: int) -> int:
        """Leave out the oldest results, those of this turn aside, until the next prompt leaves room for a reply."""
        read = exchange.trace.prompt_tokens
        added = sum(_chars(message) for message in self.messages[-fresh - 1 :])
        before = sum(map(_chars, self.messages)) - added
        per_token = max(1.0, before / read) if read else GUESSED_CHARS_PER_TOKEN
        expected = (read or before / per_token) + added / per_token
        most = self.context_tokens * (1 - ROOM) - self.reply_tokens
        left_out = 0
        while expected > most and self._results and self._results[0] < len(self.messages) - fresh:
            place = self._results.pop(0)
            saved = _chars(self.messages[place]) - len(LEFT_OUT)
            if saved > 0:
                self.messages[place] = {**self.messages[place], "content": LEFT_OUT}
                expected -= saved / per_token
                left_out += 1
        if left_out:
            self._seen.clear()  # what was left out may rightly be asked for again
        if expected >= self.context_tokens:
            self.end = self.end or End.OVER_CONTEXT
        return left_out


def _refused(call: Call, why: str) -> Done:
    return Done(tool=call.tool, arguments=call.written, result=f"Error: {why}", wall_s=0.0, reason=Reason.BAD_ARGUMENTS)


def _chars(message: Mapping[str, Any]) -> int:
    """What a message adds to a prompt, as far as its words go."""
    calls = message.get("tool_calls", ())
    return len(message["content"]) + sum(
        len(call["function"]["name"]) + len(call["function"]["arguments"]) for call in calls
    )


def _guessed(text: str) -> int:
    return round(len(text) / GUESSED_CHARS_PER_TOKEN)
