"""A campaign that stops when it is decided: its blocks, how far each candidate was asked, what each look saw."""

from collections.abc import Collection, Mapping

import msgspec
import sqlalchemy as sa

from kettlefield.core.acceptance import Status
from kettlefield.core.statistics.estimate import Estimate
from kettlefield.record import schema
from kettlefield.record.store import Record
from kettlefield.results.frames import every_trial_frame
from kettlefield.results.rows import candidate_rows, exercise_rows


class Look(msgspec.Struct, frozen=True, kw_only=True):
    """One criterion of a candidate as it was seen after a block."""

    candidate: str
    at: float  # seconds since the epoch
    block: int
    criterion: int  # of the plan, from 1
    exercises: int  # of those that the criterion is about, asked by then
    planned: int  # of those that it is about
    confidence: float  # one-sided, that the interval has at this look
    figure: Estimate | None
    status: Status
    reason: str  # why it is undecided


class Blocks(msgspec.Struct, frozen=True, kw_only=True):
    """Which exercise is asked in which block."""

    of: Mapping[str, int]  # exercise -> its block, from 1; those that the rig can ask

    @property
    def count(self) -> int:
        """How many blocks there are."""
        return max(self.of.values(), default=0)

    def counts(self, exercises: Collection[str], upto: int | None = None) -> tuple[int, ...]:
        """How many of some exercises were asked at each look, up to a block; one that holds none of them is no look."""
        places = [self.of[name] for name in exercises if name in self.of]
        last = self.count if upto is None else upto
        return tuple(sorted({sum(place <= block for place in places) for block in range(1, last + 1)} - {0}))

    def upto(self, block: int) -> frozenset[str]:
        """The exercises of a block and of all before it."""
        return frozenset(name for name, at in self.of.items() if at <= block)


def blocks_of(record: Record) -> Blocks | None:
    """The blocks of a campaign that stops when it is decided; None: it asks everything."""
    campaign = record.campaign()
    if campaign is None or campaign["until"] is None:
        return None
    rows = exercise_rows(record)
    return Blocks(of={one.id: one.block for one in rows if one.block is not None and one.not_measured is None})


def looks_of(record: Record) -> tuple[Look, ...]:
    """Every look, in the order in which they were taken."""
    return record.once("looks", lambda: _read_looks(record))


def _read_looks(record: Record) -> tuple[Look, ...]:
    look, candidate = schema.look, schema.candidate
    query = sa.select(look, candidate.c.name).join(candidate, candidate.c.id == look.c.candidate_id)
    with record.reading() as connection:
        rows = list(connection.execute(query.order_by(look.c.id)))
    return tuple(
        Look(
            candidate=row.name,
            at=row.at,
            block=row.block,
            criterion=row.criterion,
            exercises=row.exercises,
            planned=row.planned,
            confidence=row.confidence,
            figure=None if row.value is None else Estimate(value=row.value, low=row.low, high=row.high, n=row.trials),
            status=Status(row.status),
            reason=row.reason,
        )
        for row in rows
    )


def newest_rows(record: Record, candidate_id: int) -> tuple[float | None, ...]:
    """The newest rows on which the criteria of a candidate rest: as long as they are the same, so is what they say."""
    own = [
        sa.select(sa.func.max(column)).where(column.table.c.candidate_id == candidate_id).scalar_subquery()
        for column in (
            schema.trial.c.id,
            schema.trial.c.finished_at,  # the id of a trial that is asked again may be given once more
            schema.look.c.id,
            schema.procedure.c.id,
            schema.session.c.id,
        )
    ]
    sessions = sa.select(schema.session.c.id).where(schema.session.c.candidate_id == candidate_id)
    served = [
        sa.select(sa.func.max(column)).where(column.table.c.session_id.in_(sessions)).scalar_subquery()
        for column in (
            schema.exchange.c.id,
            schema.memory_block.c.id,
            schema.memory_block.c.peak_bytes,  # a phase under way is written again as its peak grows
        )
    ]
    marked = [sa.select(sa.func.max(table.c.id)).scalar_subquery() for table in (schema.mark, schema.judgement)]
    with record.reading() as connection:
        return tuple(connection.execute(sa.select(*own, *served, *marked)).one())


def start_seconds(record: Record) -> dict[str, float]:
    """For each candidate what a start costs before the suite goes on: from the start of its server to the first answer
    asked, where nothing was timed between; else until it was ready. The longest of all starts, in seconds.
    """
    session, exchange, candidate = schema.session, schema.exchange, schema.candidate
    first = (
        sa.select(
            exchange.c.session_id,
            sa.func.min(sa.case((exchange.c.purpose == "answer", exchange.c.asked_at))).label("answer_at"),
            sa.func.sum(sa.case((exchange.c.purpose == "warm-up", 1), else_=0)).label("timed"),
        )
        .group_by(exchange.c.session_id)
        .subquery()
    )
    query = (
        sa.select(candidate.c.name, session.c.started_at, session.c.load_s, first.c.answer_at, first.c.timed)
        .join(candidate, candidate.c.id == session.c.candidate_id)
        .outerjoin(first, first.c.session_id == session.c.id)
    )
    costs: dict[str, list[float]] = {}
    with record.reading() as connection:
        for row in connection.execute(query):
            cost = row.load_s or 0.0
            if row.answer_at is not None and not row.timed:
                cost = max(cost, row.answer_at - row.started_at)
            costs.setdefault(row.name, []).append(cost)
    return {name: max(values) for name, values in costs.items()}


def blocks_asked(record: Record) -> dict[str, int]:
    """For each candidate how many blocks, from the first, it was asked whole: every sample at every fill."""
    return record.once("blocks asked", lambda: _count_blocks(record))


def _count_blocks(record: Record) -> dict[str, int]:
    blocks = blocks_of(record)
    if blocks is None:
        return {}
    trials = every_trial_frame(record)
    asked = trials.groupby(["candidate", "exercise"]).size().to_dict()
    # at no fill of the context
    in_workspace = {one.id for one in exercise_rows(record) if one.kind == "workspace"}
    found = {}
    for candidate in candidate_rows(record):
        grading = candidate.settings["grading"]
        fills = 1 + len({fill for fill in grading.get("context_fill", ()) if fill > 0})
        wanted = {False: grading["samples"] * fills, True: grading["samples"]}
        short = {
            block
            for name, block in blocks.of.items()
            if asked.get((candidate.name, name), 0) < wanted[name in in_workspace]
        }
        found[candidate.name] = min(short, default=blocks.count + 1) - 1
    return found
