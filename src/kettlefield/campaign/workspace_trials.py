"""A trial in a workspace: the model asks for tools turn by turn, and what it leaves is graded."""

from collections.abc import Awaitable, Callable, Mapping, Sequence
from typing import Any

import msgspec

from kettlefield.campaign.prompts import render_exercise
from kettlefield.core.as_dict import as_dict
from kettlefield.core.extraction.file_diffs import diff_of, lines_changed
from kettlefield.core.outcome import FAULTS, Outcome
from kettlefield.grading.command_run import run_command
from kettlefield.grading.grader import Grade, Grader
from kettlefield.grading.results import stopped, to_limits
from kettlefield.plan.candidates import Candidate
from kettlefield.record.entries import AttemptEntry, ExchangeEntry, TurnEntry, WorkEntry
from kettlefield.sandbox.job import RunReport
from kettlefield.server.exchange import Ask, Exchange
from kettlefield.suite.format import Exercise
from kettlefield.workspace.session import End, Session
from kettlefield.workspace.tool_calls import CallForm
from kettlefield.workspace.tools import Tool, cut_result, offered
from kettlefield.workspace.tree import Reason, ToolError, Tree

WORKSPACE = "workspace"  # the purpose of a turn's request
_BLOCKS = """You work through tools. To call one, write a block of JSON such as

```json
{"tool": "read_file", "arguments": {"path": "README.md"}}
```

A reply may hold several such blocks; the results come back in the next message. The tools:
"""
# an end that explains why the work is not right
_OUTCOME_OF = {
    End.OVER_TURNS: Outcome.OVER_TURNS,
    End.OVER_CALLS: Outcome.OVER_TURNS,
    End.OVER_TOKENS: Outcome.OVER_TURNS,
    End.OVER_TIME: Outcome.OVER_TURNS,
    End.OVER_CONTEXT: Outcome.OVER_CONTEXT,
    End.LOOPING: Outcome.LOOPING,
}
# what the work itself shows to be wrong, whatever the run ended by
_SHOWN_BY_WORK = frozenset({Outcome.PASSED, Outcome.TOUCHED_PROTECTED, *FAULTS})


def opening_ask(exercise: Exercise, candidate: Candidate, form: CallForm) -> Ask:
    """The first request of a run: the ticket, the commands, and the tools in the form that the server takes."""
    tools = tools_of(exercise, candidate)
    ask = render_exercise(exercise, candidate.prompting)
    if form == "functions":
        return msgspec.structs.replace(ask, tools=tuple(tool.schema() for tool in tools))
    described = _BLOCKS + "\n".join(tool.line() for tool in tools)
    *before, ticket = ask.messages
    return msgspec.structs.replace(
        ask, messages=(*before, {**ticket, "content": f"{described}\n\n{ticket['content']}"})
    )


def tools_of(exercise: Exercise, candidate: Candidate) -> list[Tool]:
    """The tools that a candidate is offered for an exercise."""
    table = exercise.spec.workspace
    return offered(candidate.workspaces.edit_tools, tuple(table.commands) if table is not None else ())


async def run_workspace(
    exercise: Exercise,
    candidate: Candidate,
    form: CallForm,
    *,
    sampling: dict[str, Any],
    ask_once: Callable[[Ask], Awaitable[Exchange | None]],
    grader: Grader,
    in_thread: Callable[[Callable[[], Any]], Awaitable[Any]],
    entry_of: Callable[[Exchange], ExchangeEntry],
) -> AttemptEntry | None:
    """One run from the ticket to the grade.

    Parameters
    ----------
    exercise, candidate : Exercise, Candidate
        What is asked, and how.
    form : str
        How tools are offered and called.
    sampling : dict
        The settings as they go over the wire.
    ask_once : callable
        Puts a request; None: the server is gone.
    grader : Grader
        Runs commands and grades what is left.
    in_thread : callable
        Runs blocking work beside the event loop.
    entry_of : callable
        An exchange as the record keeps it.

    Returns
    -------
    AttemptEntry or None
        None when the server was gone before the first request.
    """
    table = exercise.spec.workspace
    if table is None:
        raise ValueError(f"exercise={exercise.id!r}: it has no workspace")
    ask = msgspec.structs.replace(opening_ask(exercise, candidate, form), sampling=sampling)
    session = Session(
        tree=Tree(dict(exercise.workspace)),
        table=table,
        tools=tools_of(exercise, candidate),
        form=form,
        opening=ask.messages,
        context_tokens=candidate.server.context,
        reply_tokens=candidate.sampling.max_tokens,
        run_command=lambda line, files: _command_words(exercise, line, files, grader),
    )
    exchanges: list[Exchange] = []
    fault = ""
    known = 0  # messages that the record has already
    turns: list[TurnEntry] = []
    while session.end is None:
        exchange = await ask_once(msgspec.structs.replace(ask, messages=tuple(session.messages)))
        if exchange is None and not exchanges:
            return None
        if exchange is None or exchange.fault is not None:
            fault = "the server was gone" if exchange is None else f"the server {exchange.fault}"
            session.end = End.OVER_CONTEXT if exchange is not None and exchange.over_context else End.SERVER_FAULT
            if exchange is None:
                break
        exchanges.append(exchange)
        fresh = tuple(session.messages[known:])
        if session.end is None:
            await in_thread(lambda exchange=exchange: session.take(exchange))  # type: ignore[misc]
        known += len(fresh) + 1  # what was sent, and the reply, which the exchange itself holds
        done = session.turns[len(turns) :]
        turns.append(
            TurnEntry(
                exchange=entry_of(_with_messages(exchange, fresh)),
                calls=tuple(_plain(call) for turn in done for call in turn.calls),
                results_left_out=sum(turn.results_left_out for turn in done),
            )
        )
    files = dict(session.tree.files)
    grade: Grade | None = None
    if session.end is not End.SERVER_FAULT:
        grade = await in_thread(lambda: grader.grade_files(exercise, files))
    return _attempt(exercise, session, form, turns, grade, fault)


def _with_messages(exchange: Exchange, messages: tuple[dict[str, Any], ...]) -> Exchange:
    """The exchange with what its request added to the conversation: the whole of it, each turn, would grow squarely."""
    return msgspec.structs.replace(exchange, ask=msgspec.structs.replace(exchange.ask, messages=messages))


def _plain(call: Any) -> dict[str, Any]:
    return {
        name: str(value) if name == "reason" and value is not None else value for name, value in as_dict(call).items()
    }


def _attempt(
    exercise: Exercise,
    session: Session,
    form: CallForm,
    turns: Sequence[TurnEntry],
    grade: Grade | None,
    fault: str,
) -> AttemptEntry:
    files = session.tree.files
    changed = {name: text for name, text in files.items() if exercise.workspace.get(name) != text}
    end = session.end or End.STOPPED
    work = WorkEntry(
        form=form,
        ended=str(end),
        diff=diff_of(exercise.workspace, files),
        lines_changed=lines_changed(exercise.workspace, files),
        own_lines_changed=lines_changed(exercise.workspace, exercise.answer),
        turns=tuple(turns),
    )
    return AttemptEntry(
        turn=1,
        exchange=turns[-1].exchange if turns else None,
        outcome=outcome_of(end, grade, is_changed=files != exercise.workspace),
        score=grade.score if grade is not None else 0.0,
        files=changed,
        language=exercise.spec.language,
        how=f"work in the repository, ended by {end}",
        remarks=(),
        fault=fault or (grade.fault if grade is not None else ""),
        checks=grade.checks if grade is not None else (),
        work=work,
    )


def outcome_of(end: End, grade: Grade | None, *, is_changed: bool) -> Outcome:
    """How a run ended, from the work it left and why it stopped.

    Work that passes has passed, whatever stopped the model afterwards. Of work that does not, the reason why it was
    broken off says more than what is wrong with it.
    """
    if grade is None:
        return Outcome.SERVER_FAULT
    if grade.outcome in _SHOWN_BY_WORK:
        return grade.outcome
    if end is not End.FINISHED and end in _OUTCOME_OF:
        return _OUTCOME_OF[end]
    if end is End.STOPPED and not is_changed:
        return Outcome.GAVE_UP
    return grade.outcome


def _command_words(exercise: Exercise, line: str, files: Mapping[str, str], grader: Grader) -> str:
    """What a command prints, as a tool's result.

    Raises
    ------
    ToolError
        It took more than it may.
    """
    table = exercise.spec.workspace
    needs = table.needs if table is not None else ()
    limits = to_limits(exercise.spec.limits)
    report = run_command(line, files, limits, grader.sandbox, needs=needs, joined=True).report
    stop = stopped(report)
    if stop is not None:
        reason = Reason.TIMED_OUT if report.timed_out else Reason.COMMAND_LIMIT
        raise ToolError(reason, f"The command was stopped: {stop[1]}. It had printed:\n{_printed(report)}")
    return f"exit status {report.exit_status}\n{_printed(report)}"


def _printed(report: RunReport) -> str:
    return cut_result(report.stdout.decode("utf-8", errors="replace").strip())
