"""Work in a repository: what was solved and what it took, calls that failed, depth of the context, how runs ended."""

import json
from collections.abc import Mapping, Sequence
from typing import Any, Literal

from kettlefield.core.plaintext import shorten
from kettlefield.core.units import format_duration
from kettlefield.record.store import Record
from kettlefield.results.frames import campaign_facts
from kettlefield.results.workspace_runs import (
    DepthFigures,
    Run,
    TurnRow,
    WorkFigures,
    by_depth,
    work_figures,
    workspace_runs,
)
from kettlefield.views.table import (
    Align,
    Column,
    Table,
    View,
    Words,
    chosen,
    count,
    duration,
    estimate_json,
    number,
    percent,
    present,
    share,
    table,
    words,
)


def workspace_view(record: Record, only: str | None = None) -> View:
    """All of a record's candidates.

    Raises
    ------
    InputError
        No campaign was begun, or the pattern matches nothing.
    """
    facts, figures = campaign_facts(record), work_figures(record)
    rows = chosen(figures, only) if figures else []
    names = {row.candidate for row in rows}
    depths = [one for one in by_depth(record) if one.candidate in names]
    nothing = 'no exercise in a workspace was asked: exercises of kind "workspace" are'
    return View(
        title=facts["title"],
        simulated=facts["simulated"],
        parts=present(Words(text=nothing) if not rows else None, *workspace_tables(rows, depths)),
        document={
            "simulated": facts["simulated"],
            "candidates": [_json(row) for row in rows],
            "by_depth": [
                {
                    "candidate": one.candidate,
                    "prompt_tokens": one.depth,
                    "runs": one.runs,
                    "pass_rate": estimate_json(one.pass_rate),
                }
                for one in depths
            ],
            "runs": [_run_json(run) for run in workspace_runs(record) if run.candidate in names],
        },
    )


def workspace_tables(rows: Sequence[WorkFigures], depths: Sequence[DepthFigures]) -> tuple[Table, ...]:
    """What was solved and what it took, failed calls, calls by tool, depth, ends."""
    return present(
        table(
            "Work in a repository",
            [
                words("candidate"),
                Column(name="solved", align=Align.RIGHT),
                share("pass rate"),
                number("calls/solved"),
                number("tokens/solved"),
                duration("time/solved"),
                Column(name="edits applied", align=Align.RIGHT),
            ],
            [
                (
                    *(row.candidate, f"{row.solved} of {row.runs}", row.pass_rate),
                    *(row.calls_per_solved, row.tokens_per_solved, row.seconds_per_solved),
                    f"{row.edits_applied} of {row.edits_tried}",
                )
                for row in rows
            ],
            note=f"Tools called by: {_forms(rows)}. Calls, tokens that the model wrote and time (model and tools) of "
            "all runs, over those solved. Edits applied: of all that were tried.",
        ),
        table(
            "How the runs went",
            [
                words("candidate"),
                Column(name="turns", align=Align.RIGHT, show="{:g}".format),
                count("commands run"),
                count("longest prompt", "tokens"),
                count("results left out"),
                percent("lines beside own"),
            ],
            [
                (
                    *(row.candidate, row.turns, row.commands_run),
                    None if row.deepest_tokens is None else round(row.deepest_tokens),
                    *(row.results_left_out, row.lines_beside_own),
                )
                for row in rows
            ],
            note="Turns, longest prompt, and lines changed in solved runs beside those that the own answer changes: "
            "medians. Results left out: earlier results of tools that made room in a context that was nearly full.",
        ),
        _counts("Calls that failed", "reason", {row.candidate: row.failed_calls for row in rows}),
        _counts("Calls by tool", "tool", {row.candidate: row.calls for row in rows}),
        table(
            "Solved by the longest prompt of a run",
            [words("candidate", once=True), words("longest prompt, tokens"), count("runs"), share("pass rate")],
            [(one.candidate, one.depth, one.runs, one.pass_rate) for one in depths],
            note="A longer run reads more: harder tickets are among the deeper ones, so this is no "
            "measure of depth alone.",
        ),
        _counts("How runs ended", "end", {row.candidate: row.ended for row in rows}),
    )


def _forms(rows: Sequence[WorkFigures]) -> str:
    said = {"functions": "the API's function calling", "blocks": "JSON blocks in the reply"}
    by_form: dict[tuple[str, ...], list[str]] = {}
    for row in rows:
        by_form.setdefault(row.forms, []).append(row.candidate)
    shown = {" and ".join(said[form] for form in forms): names for forms, names in by_form.items()}
    if len(shown) == 1:
        return next(iter(shown))
    return "; ".join(f"{way} ({', '.join(names)})" for way, names in shown.items())


def _counts(title: str, what: str, counts: Mapping[str, Mapping[str, int]]) -> Table | None:
    seen = list(dict.fromkeys(name for mine in counts.values() for name in mine))
    return table(
        title,
        [words(what), *(count(name) for name in counts)],
        [(name, *(mine.get(name) for mine in counts.values())) for name in seen],
    )


def _json(row: WorkFigures) -> dict[str, Any]:
    return {
        "candidate": row.candidate,
        "forms": list(row.forms),
        "runs": row.runs,
        "solved": row.solved,
        "pass_rate": estimate_json(row.pass_rate),
        "turns_p50": row.turns,
        "calls_per_solved": row.calls_per_solved,
        "tokens_per_solved": row.tokens_per_solved,
        "seconds_per_solved": row.seconds_per_solved,
        "edits_applied": row.edits_applied,
        "edits_tried": row.edits_tried,
        "failed_calls": dict(row.failed_calls),
        "calls": dict(row.calls),
        "commands_run": row.commands_run,
        "longest_prompt_tokens_p50": row.deepest_tokens,
        "results_left_out": row.results_left_out,
        "lines_beside_own_p50": row.lines_beside_own,
        "ended": dict(row.ended),
    }


def _run_json(run: Run) -> dict[str, Any]:
    applied, tried = run.edits
    return {
        "trial": run.trial,
        "candidate": run.candidate,
        "exercise": run.exercise,
        "outcome": run.outcome,
        "form": run.form,
        "ended": run.ended,
        "turns": len(run.turns),
        "calls": len(run.calls),
        "failed_calls": sum(call.reason is not None for call in run.calls),
        "edits_applied": applied,
        "edits_tried": tried,
        "commands_run": sum(call.tool == "run" and call.reason is None for call in run.calls),
        "completion_tokens": run.completion_tokens,
        "prompt_tokens": [turn.prompt_tokens for turn in run.turns],
        "model_s": run.model_s,
        "tools_s": run.tools_s,
        "lines_changed": run.lines_changed,
        "own_lines_changed": run.own_lines_changed,
    }


LineTone = Literal["said", "call", "result", "failed", "note"]
ARGUMENT_CHARS, RESULT_CHARS = 1200, 600  # of one call, as a run is shown


def work_line(run: Run) -> str:
    """A run in a line."""
    applied, tried = run.edits
    failed = sum(call.reason is not None for call in run.calls)
    return (
        f"ended by {run.ended} after {len(run.turns)} turns, {len(run.calls)} calls ({failed} failed), {applied} of "
        f"{tried} edits applied, {run.completion_tokens:,} tokens written, longest prompt {run.deepest_tokens or 0:,} "
        f"tokens, {format_duration(run.model_s)} in the model and {format_duration(run.tools_s)} in the tools, "
        f"{run.lines_changed} lines changed (own answer {run.own_lines_changed})"
    )


def turn_parts(turn: TurnRow) -> list[tuple[LineTone, str]]:
    """What the model wrote in a turn, its calls, and what came back, each with what it is."""
    parts: list[tuple[LineTone, str]] = [("said", turn.reply.strip())] if turn.reply.strip() else []
    for call in turn.calls:
        parts.append(("call", f"> {call.tool} {shorten(_plain_arguments(call.arguments), ARGUMENT_CHARS)}".rstrip()))
        result = shorten(call.result.rstrip(), RESULT_CHARS).replace("\n", "\n  | ")
        parts.append(("result" if call.reason is None else "failed", f"  | {result}"))
    if turn.results_left_out:
        parts.append(("note", f"{turn.results_left_out} earlier results were left out: the context was nearly full"))
    return parts or [("note", "nothing was written and nothing called")]


def turn_text(turn: TurnRow) -> str:
    """The same as plain text."""
    return "\n".join(text for _, text in turn_parts(turn))


def _plain_arguments(written: str) -> str:
    """Arguments for a reader: long texts with their lines, the rest as it is."""
    try:
        given = json.loads(written)
    except (ValueError, RecursionError):
        return written
    if not isinstance(given, dict):
        return written
    short = ", ".join(f"{name}={value!r}" for name, value in given.items() if "\n" not in str(value))
    texts = [f"\n{name}:\n{value}" for name, value in given.items() if "\n" in str(value)]
    return short + "".join(texts)
