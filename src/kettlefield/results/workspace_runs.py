"""Runs in a workspace: turns, calls by tool, calls that failed and why, edits, growth of the context, time."""

from collections import Counter
from collections.abc import Mapping, Sequence
from typing import Any

import msgspec
import numpy as np
import sqlalchemy as sa

from kettlefield.core.outcome import FAULTS, Outcome
from kettlefield.core.statistics.estimate import Estimate
from kettlefield.core.statistics.intervals import pass_ratio
from kettlefield.record import schema
from kettlefield.record.packing import unpack_json, unpack_text
from kettlefield.record.store import Record
from kettlefield.results.rows import candidate_rows

DEPTHS_TOKENS = (0, 4_000, 8_000, 16_000, 32_000, 64_000)  # classes of the longest prompt of a run


class Called(msgspec.Struct, frozen=True, kw_only=True):
    """One call of a tool."""

    tool: str
    arguments: str  # as the model wrote them
    result: str  # as it went back
    wall_s: float
    reason: str | None  # why it failed; None: it was carried out
    is_edit: bool


class TurnRow(msgspec.Struct, frozen=True, kw_only=True):
    """One turn of a run."""

    number: int
    messages: tuple[Mapping[str, Any], ...]  # what it added to the conversation
    reply: str
    thinking: str
    calls: tuple[Called, ...]
    prompt_tokens: int | None
    completion_tokens: int | None
    finished_s: float | None
    results_left_out: int


class Run(msgspec.Struct, frozen=True, kw_only=True):
    """One run in a workspace."""

    trial: int
    candidate: str
    exercise: str
    outcome: str
    form: str  # "functions" or "blocks"
    ended: str
    turns: tuple[TurnRow, ...]
    diff: str
    lines_changed: int
    own_lines_changed: int
    completion_tokens: int
    model_s: float
    tools_s: float

    @property
    def calls(self) -> tuple[Called, ...]:
        """Of all turns."""
        return tuple(call for turn in self.turns for call in turn.calls)

    @property
    def deepest_tokens(self) -> int | None:
        """The longest prompt; None where the server counts nothing."""
        counted = [turn.prompt_tokens for turn in self.turns if turn.prompt_tokens is not None]
        return max(counted) if counted else None

    @property
    def edits(self) -> tuple[int, int]:
        """Edits that were carried out, and all that were tried."""
        tried = [call for call in self.calls if call.is_edit]
        return sum(call.reason is None for call in tried), len(tried)


class WorkFigures(msgspec.Struct, frozen=True, kw_only=True):
    """One candidate's runs; of those that a fault of server or rig broke off nothing is counted."""

    candidate: str
    forms: tuple[str, ...]
    runs: int
    solved: int
    pass_rate: Estimate
    turns: float  # median a run
    calls_per_solved: float | None
    tokens_per_solved: float | None  # that the model wrote
    seconds_per_solved: float | None  # waiting for the model and for the tools
    edits_applied: int
    edits_tried: int
    failed_calls: Mapping[str, int]  # by reason
    calls: Mapping[str, int]  # by tool
    commands_run: int
    deepest_tokens: float | None  # median of the runs' longest prompts
    results_left_out: int
    lines_beside_own: float | None  # median of lines changed over those of the own answer, of solved runs
    ended: Mapping[str, int]


class DepthFigures(msgspec.Struct, frozen=True, kw_only=True):
    """One candidate's runs whose longest prompt was of one class."""

    candidate: str
    depth: str
    runs: int
    pass_rate: Estimate


def workspace_runs(record: Record) -> tuple[Run, ...]:
    """Every run, in the order of the trials; empty where there was none."""
    return record.once("workspace_runs", lambda: tuple(_read(record)))


def _read(record: Record, trial_id: int | None = None) -> list[Run]:
    run, attempt, trial, candidate = schema.workspace_run, schema.attempt, schema.trial, schema.candidate
    query = (
        sa.select(run, trial.c.id.label("trial"), trial.c.exercise_id, trial.c.outcome, candidate.c.name)
        .join(attempt, attempt.c.id == run.c.attempt_id)
        .join(trial, trial.c.id == attempt.c.trial_id)
        .join(candidate, candidate.c.id == trial.c.candidate_id)
        .order_by(trial.c.id, attempt.c.number)
    )
    if trial_id is not None:
        query = query.where(trial.c.id == trial_id)
    with record.reading() as connection:
        return [
            Run(
                trial=row.trial,
                candidate=row.name,
                exercise=row.exercise_id,
                outcome=row.outcome,
                form=row.form,
                ended=row.ended,
                turns=_turns(connection, row.attempt_id),
                diff=unpack_text(row.diff),
                lines_changed=row.lines_changed,
                own_lines_changed=row.own_lines_changed,
                completion_tokens=row.completion_tokens,
                model_s=row.model_s,
                tools_s=row.tools_s,
            )
            for row in connection.execute(query).all()
        ]


def _turns(connection: sa.Connection, attempt_id: int) -> tuple[TurnRow, ...]:
    turn, exchange, prompt = schema.workspace_turn, schema.exchange, schema.prompt
    query = (
        sa.select(
            turn.c.number,
            turn.c.calls,
            turn.c.results_left_out,
            exchange.c.reply,
            exchange.c.thinking,
            exchange.c.prompt_tokens,
            exchange.c.completion_tokens,
            exchange.c.finished_s,
            prompt.c.messages,
        )
        .join(exchange, exchange.c.id == turn.c.exchange_id)
        .join(prompt, prompt.c.id == exchange.c.prompt_id)
        .where(turn.c.attempt_id == attempt_id)
        .order_by(turn.c.number)
    )
    return tuple(
        TurnRow(
            number=row.number,
            messages=tuple(unpack_json(row.messages)),
            reply=unpack_text(row.reply),
            thinking=unpack_text(row.thinking),
            calls=tuple(Called(**call) for call in unpack_json(row.calls)),
            prompt_tokens=row.prompt_tokens,
            completion_tokens=row.completion_tokens,
            finished_s=row.finished_s,
            results_left_out=row.results_left_out,
        )
        for row in connection.execute(query).all()
    )


def run_of_trial(record: Record, trial_id: int) -> Run | None:
    """The run of one trial; None where it was none in a workspace."""
    runs = _read(record, trial_id)
    return runs[-1] if runs else None


def work_figures(record: Record) -> tuple[WorkFigures, ...]:
    """One row a candidate, in the record's order."""
    counted = _counted(record)
    return tuple(
        _figures(one.name, mine)
        for one in candidate_rows(record)
        if (mine := [run for run in counted if run.candidate == one.name])
    )


def _counted(record: Record) -> list[Run]:
    return [run for run in workspace_runs(record) if run.outcome not in {str(fault) for fault in FAULTS}]


def _is_solved(run: Run) -> bool:
    return run.outcome == Outcome.PASSED.value


def _figures(candidate: str, runs: Sequence[Run]) -> WorkFigures:
    solved = [run for run in runs if _is_solved(run)]
    calls = [call for run in runs for call in run.calls]
    depths = [run.deepest_tokens for run in runs if run.deepest_tokens is not None]
    beside = [run.lines_changed / run.own_lines_changed for run in solved if run.own_lines_changed]

    def each(total: float) -> float | None:
        return total / len(solved) if solved else None

    return WorkFigures(
        candidate=candidate,
        forms=tuple(dict.fromkeys(run.form for run in runs)),
        runs=len(runs),
        solved=len(solved),
        pass_rate=_pass_rate(runs),
        turns=float(np.median([len(run.turns) for run in runs])),
        calls_per_solved=each(len(calls)),
        tokens_per_solved=each(sum(run.completion_tokens for run in runs)),
        seconds_per_solved=each(sum(run.model_s + run.tools_s for run in runs)),
        edits_applied=sum(run.edits[0] for run in runs),
        edits_tried=sum(run.edits[1] for run in runs),
        failed_calls=dict(Counter(call.reason for call in calls if call.reason is not None).most_common()),
        calls=dict(Counter(call.tool for call in calls).most_common()),
        commands_run=sum(call.tool == "run" and call.reason is None for call in calls),
        deepest_tokens=float(np.median(depths)) if depths else None,
        results_left_out=sum(turn.results_left_out for run in runs for turn in run.turns),
        lines_beside_own=float(np.median(beside)) if beside else None,
        ended=dict(Counter(run.ended for run in runs).most_common()),
    )


def _pass_rate(runs: Sequence[Run]) -> Estimate:
    names = sorted({run.exercise for run in runs})
    by_name = {name: [run for run in runs if run.exercise == name] for name in names}
    return pass_ratio([sum(map(_is_solved, by_name[name])) for name in names], [len(by_name[name]) for name in names])


def by_depth(record: Record) -> tuple[DepthFigures, ...]:
    """Pass rates by how long the longest prompt of a run became; runs whose tokens nobody counted are left out."""
    rows = []
    counted = [run for run in _counted(record) if run.deepest_tokens is not None]
    for candidate in dict.fromkeys(run.candidate for run in counted):
        for least, below in zip(DEPTHS_TOKENS, (*DEPTHS_TOKENS[1:], None), strict=True):
            runs = [
                run
                for run in counted
                if run.candidate == candidate
                and least <= (run.deepest_tokens or 0)
                and (below is None or (run.deepest_tokens or 0) < below)
            ]
            if runs:
                depth = f"{least:,} to {below:,}" if below is not None else f"{least:,} and more"
                rows.append(DepthFigures(candidate=candidate, depth=depth, runs=len(runs), pass_rate=_pass_rate(runs)))
    return tuple(rows)
