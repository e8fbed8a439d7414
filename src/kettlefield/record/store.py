"""What a campaign writes into its record and asks of it; what was committed survives the tool being killed."""

import json
import time
from collections.abc import Collection, Mapping, Sequence
from typing import Any

import sqlalchemy as sa

from kettlefield import __version__
from kettlefield.core.as_dict import as_dict
from kettlefield.record import kinds, schema
from kettlefield.record.entries import (
    CampaignEntry,
    CandidateEntry,
    ExchangeEntry,
    ExerciseEntry,
    JudgementEntry,
    LookEntry,
    MarkEntry,
    MemoryEntry,
    NoteEntry,
    ProcedureEntry,
    RigEntry,
    SessionChange,
    SessionEntry,
    SignatureEntry,
    TrialEntry,
    inserted,
)
from kettlefield.record.packing import pack_json, pack_text
from kettlefield.record.storage import Storage


class Record(Storage):
    """An open record: what is written of a campaign, and what its run asks of it."""

    def campaign(self) -> dict[str, Any] | None:
        """The campaign's row, or None before it began."""
        with self.reading() as connection:
            row = connection.execute(sa.select(schema.campaign)).mappings().first()
        return dict(row) if row is not None else None

    def begin(self, entry: CampaignEntry, exercises: list[ExerciseEntry]) -> None:
        """Write the campaign and its exercises, once."""
        row = {
            **as_dict(entry),
            "plan_parts": json.dumps(entry.plan_parts),
            "rig": json.dumps(entry.rig),
            "started_at": time.time(),
            "tool_version": __version__,
        }
        rows = [
            {**as_dict(e), "topics": json.dumps(e.topics), "refer": json.dumps(e.refer) if e.refer else None}
            for e in exercises
        ]

        def write(connection: sa.Connection) -> None:
            if connection.execute(sa.select(schema.campaign.c.id)).first() is not None:
                return  # another rig was quicker
            connection.execute(
                schema.campaign.insert().values(**row, id=1)
            )  # two at one moment: one of them is refused
            connection.execute(schema.exercise.insert(), rows)

        self._write(write)

    def set_not_measured(self, reasons: Mapping[str, str]) -> None:
        """Write why exercises cannot be asked on this rig, by id; all others can."""
        table = schema.exercise

        def write(connection: sa.Connection) -> None:
            connection.execute(table.update().values(not_measured=None))
            for exercise_id, reason in reasons.items():
                connection.execute(table.update().where(table.c.id == exercise_id).values(not_measured=reason))

        self._write(write)

    def put_rig(self, entry: RigEntry) -> int:
        """The id of a rig, as it is now: it is added when it is not there yet."""
        table = schema.rig
        row = {**as_dict(entry), "facts": json.dumps(entry.facts)}

        def write(connection: sa.Connection) -> int:
            known = connection.execute(sa.select(table.c.id).where(table.c.name == entry.name)).scalar_one_or_none()
            if known is None:
                return inserted(connection, table, {**row, "at": time.time()})
            connection.execute(table.update().where(table.c.id == known).values(**row))
            return int(known)

        return self._write(write)

    def clock_ahead_s(self) -> float:
        """Seconds that this machine's clock is ahead of the database's; of a file 0: it has no clock of its own."""
        with self.reading() as connection:
            if connection.dialect.name != "postgresql":
                return 0.0
            before = time.time()
            there = connection.execute(sa.text("SELECT extract(epoch FROM clock_timestamp())")).scalar_one()
            return (before + time.time()) / 2 - float(there)

    def rig_id(self, name: str) -> int | None:
        """The id of a rig that is in the record; None: it is not, or the campaign has one rig without a name."""
        table = schema.rig
        with self.reading() as connection:
            return connection.execute(sa.select(table.c.id).where(table.c.name == name)).scalar_one_or_none()

    def put_candidate(self, entry: CandidateEntry) -> int:
        """The candidate's id; it is added when it is not there yet."""
        table = schema.candidate
        row = {
            **as_dict(entry),
            "baseline": entry.baseline or None,
            "settings": json.dumps(entry.settings),
            "weights_facts": json.dumps(entry.weights_facts),
        }

        def write(connection: sa.Connection) -> int:
            known = connection.execute(sa.select(table.c.id).where(table.c.name == entry.name)).scalar_one_or_none()
            return int(known) if known is not None else inserted(connection, table, row)

        return self._write(write)

    def claim_answers(self, candidate_id: int, runtime: str | None) -> int:
        """Whose answers count for a candidate, by id: of the first that was asked on the same runtime, or its own.

        Parameters
        ----------
        candidate_id : int
            The one whose answers are due.
        runtime : str, optional
            Digest over all that answers depend on; None: it is not known, so it is asked itself.
        """
        table = schema.candidate

        def write(connection: sa.Connection) -> int:
            # one rig after the other, so that no two are the first
            connection.execute(sa.select(schema.campaign.c.id).with_for_update()).all()
            of_this = sa.select(table.c.answers_from_id).where(table.c.id == candidate_id)
            known = connection.execute(of_this).scalar_one()
            if known is not None:
                return int(known)
            asked = sa.select(sa.func.min(table.c.id)).where(
                table.c.runtime == runtime, table.c.answers_from_id == table.c.id
            )
            chosen = connection.execute(asked).scalar_one() if runtime is not None else None
            chosen = candidate_id if chosen is None else int(chosen)
            values = {"runtime": runtime, "answers_from_id": chosen}
            connection.execute(table.update().where(table.c.id == candidate_id).values(values))
            return chosen

        return self._write(write)

    def answers_from(self, candidate_id: int) -> int | None:
        """The candidate whose answers count for this one; None: that is not settled, or each rig is asked."""
        table = schema.candidate
        with self.reading() as connection:
            query = sa.select(table.c.answers_from_id).where(table.c.id == candidate_id)
            return connection.execute(query).scalar_one_or_none()

    def task_tokens(self, candidate_id: int) -> dict[str, int]:
        """The prompt tokens of each exercise that a candidate was asked alone, by its id."""
        trial, attempt, exchange = schema.trial, schema.attempt, schema.exchange
        query = (
            sa.select(trial.c.exercise_id, exchange.c.prompt_tokens)
            .join(attempt, attempt.c.trial_id == trial.c.id)
            .join(exchange, exchange.c.id == attempt.c.exchange_id)
            .where(trial.c.candidate_id == candidate_id, trial.c.context_fill.is_(None), attempt.c.number == 1)
            .where(exchange.c.prompt_tokens.is_not(None))
        )
        with self.reading() as connection:
            return {name: int(tokens) for name, tokens in connection.execute(query)}

    def peak_bytes(self, candidate_id: int) -> int | None:
        """The highest memory of a candidate's server so far; None before the first look."""
        block, session = schema.memory_block, schema.session
        query = (
            sa.select(sa.func.max(block.c.peak_bytes))
            .join(session, session.c.id == block.c.session_id)
            .where(session.c.candidate_id == candidate_id, block.c.superseded_at.is_(None))
        )
        with self.reading() as connection:
            return connection.execute(query).scalar_one_or_none()

    def update_facts(self, candidate_id: int, facts: Mapping[str, Any]) -> None:
        """Write what a candidate's header says and predicts once more, its files' digests kept."""
        table = schema.candidate

        def write(connection: sa.Connection) -> None:
            held = connection.execute(sa.select(table.c.weights_facts).where(table.c.id == candidate_id)).scalar_one()
            merged = json.dumps({**json.loads(held), **facts})
            connection.execute(table.update().where(table.c.id == candidate_id).values(weights_facts=merged))

        self._write(write)

    def candidate_id(self, name: str) -> int | None:
        """The id of a candidate that is in the record."""
        table = schema.candidate
        with self.reading() as connection:
            return connection.execute(sa.select(table.c.id).where(table.c.name == name)).scalar_one_or_none()

    def weights_digests(self) -> dict[str, str | None]:
        """The digest that each candidate's weights had when it was added, by its name; None: it has none."""
        table = schema.candidate
        with self.reading() as connection:
            return {row.name: row.weights_sha256 for row in connection.execute(sa.select(table))}

    def finished(self, candidate_id: int) -> set[tuple[str, int, float | None]]:
        """Exercise, sample and fill of the context of every trial of a candidate that is in the record."""
        table = schema.trial
        query = sa.select(table.c.exercise_id, table.c["sample"], table.c.context_fill)
        with self.reading() as connection:
            rows = connection.execute(query.where(table.c.candidate_id == candidate_id))
            return {(row.exercise_id, row.sample, row.context_fill) for row in rows}

    def timed_points(self, candidate_id: int, purpose: str) -> list[dict[str, Any]]:
        """The point of every request that was timed for a purpose, faults left out."""
        table = schema.exchange
        with self.reading() as connection:
            query = sa.select(table.c.point).where(
                table.c.candidate_id == candidate_id,
                table.c.purpose == purpose,
                table.c.fault.is_(None),
                table.c.superseded_at.is_(None),
            )
            return [json.loads(point or "{}") for point in connection.execute(query).scalars()]

    def procedures(self, candidate_id: int) -> dict[str, str]:
        """Why each procedure of a candidate ended, by name; the last time counts."""
        table = schema.procedure
        with self.reading() as connection:
            query = sa.select(table.c.name, table.c.why_ended).where(
                table.c.candidate_id == candidate_id, table.c.superseded_at.is_(None)
            )
            return {row.name: row.why_ended for row in connection.execute(query.order_by(table.c.id))}

    def has_cold_load(self, candidate_id: int) -> bool:
        """Whether a load from the disk was timed already."""
        table = schema.session
        with self.reading() as connection:
            query = sa.select(table.c.id).where(table.c.candidate_id == candidate_id, table.c.load_kind == "cold")
            return connection.execute(query).first() is not None

    def save_procedure(self, entry: ProcedureEntry) -> None:
        """Write the end of a procedure."""
        self._put(kinds.PROCEDURE, entry)

    def save_looks(self, entries: Sequence[LookEntry]) -> None:
        """Write what was seen at a look, all or none of it."""
        rows = [{**as_dict(entry), "at": time.time()} for entry in entries]
        if rows:
            self._write(lambda connection: connection.execute(schema.look.insert(), rows))

    def save_first_answer(self, session_id: int, first_answer_s: float) -> None:
        """Write how long a session took from its start to the first token of a reply."""
        self._put(kinds.SESSION, SessionChange(session_id=session_id, values={"first_answer_s": first_answer_s}))

    def drop_faults(self, outcomes: list[str], rig_id: int | None = None) -> int:
        """Delete trials that ended in a fault of server or rig, so that they are run again; how many.

        Where the campaign has several rigs, those of one rig.
        """
        trial, attempt, candidate = schema.trial, schema.attempt, schema.candidate
        mine = sa.select(candidate.c.id).where(candidate.c.rig_id.is_not_distinct_from(rig_id))
        dropped = sa.and_(trial.c.outcome.in_(outcomes), trial.c.candidate_id.in_(mine))
        attempts = sa.select(attempt.c.id).where(attempt.c.trial_id.in_(sa.select(trial.c.id).where(dropped)))
        of_attempts = (schema.check_result, schema.picture, schema.workspace_run, schema.workspace_turn)

        def write(connection: sa.Connection) -> int:
            for table in of_attempts:
                connection.execute(table.delete().where(table.c.attempt_id.in_(attempts)))
            of_trials = sa.select(trial.c.id).where(dropped)
            connection.execute(attempt.delete().where(attempt.c.trial_id.in_(of_trials)))
            return connection.execute(trial.delete().where(dropped)).rowcount

        return self._write(write)

    def supersede(self, candidate_id: int, procedures: Collection[str], *, memory: bool) -> int:
        """Mark what is to be measured again; it stays in the record and counts no more. How many rows that were.

        Parameters
        ----------
        candidate_id : int
            Whose.
        procedures : collection of str
            Timing procedures, with their requests.
        memory : bool
            Also the memory of every phase but the answers part's, which is not asked again.
        """
        now = {"superseded_at": time.time()}
        exchange, procedure, block, session = schema.exchange, schema.procedure, schema.memory_block, schema.session
        mine = sa.select(session.c.id).where(session.c.candidate_id == candidate_id)
        marks = [
            exchange.update().where(exchange.c.candidate_id == candidate_id, exchange.c.purpose.in_(procedures)),
            procedure.update().where(procedure.c.candidate_id == candidate_id, procedure.c.name.in_(procedures)),
        ]
        if memory:
            marks.append(block.update().where(block.c.session_id.in_(mine), block.c.phase != "answers"))
        return self._write(
            lambda connection: sum(
                connection.execute(mark.where(mark.table.c.superseded_at.is_(None)).values(**now)).rowcount
                for mark in marks
            )
        )

    def begin_session(self, entry: SessionEntry) -> int:
        """Write a session as it starts; its id."""
        row = {
            **as_dict(entry),
            "command": json.dumps(entry.command),
            "program": json.dumps(entry.program) if entry.program is not None else None,
            "simulated": "simulated" in entry.description,  # a simulated server says so of itself
            "started_at": time.time(),
        }
        return self._write(lambda connection: inserted(connection, schema.session, row))

    def save_loaded(self, session_id: int, loaded: dict[str, Any]) -> None:
        """Write what a session's processes have loaded."""
        self._put(kinds.SESSION, SessionChange(session_id=session_id, values={"loaded": json.dumps(loaded)}))

    def save_preflight(self, session_id: int, facts: dict[str, Any]) -> None:
        """Write what a session's preflight check found out about settings."""
        self._put(kinds.SESSION, SessionChange(session_id=session_id, values={"preflight": json.dumps(facts)}))

    def end_session(self, session_id: int, how: str) -> None:
        """Write how a session ended."""
        self._put(kinds.SESSION, SessionChange(session_id=session_id, values={"ended": how}))

    def save_exchange(self, entry: ExchangeEntry) -> None:
        """Write a request that belongs to no trial: a warm-up or a timed one."""
        self._put(kinds.EXCHANGE, entry)

    def save_trial(self, entry: TrialEntry) -> None:
        """Write a finished trial with all that belongs to it, whole or not at all."""
        self._put(kinds.TRIAL, entry)

    def save_memory(self, entry: MemoryEntry, row_id: int | None = None, *, may_wait: bool = True) -> int:
        """Write one phase's memory, in the place of an earlier state of it where there is one; its id.

        Raises
        ------
        RigError
            It cannot be written; also when a database is away and requests would wait with it.
        """
        if row_id is not None:
            self._put(kinds.MEMORY, kinds.MemoryChange(row_id=row_id, entry=entry))
            return row_id
        row = as_dict(entry)
        return self._write(lambda connection: inserted(connection, schema.memory_block, row), may_wait=may_wait)

    def save_server_metrics(self, session_id: int, looks: dict[str, Any]) -> None:
        """Write what a session's server said of itself."""
        row = {"session_id": session_id, "looks": pack_json(looks)}
        self._write(lambda connection: connection.execute(schema.server_metrics.insert().values(**row)))

    def save_marks(self, entries: Sequence[MarkEntry]) -> None:
        """Add marks, all or none; what stands is the last of each marker, reply and showing."""
        rows = [{**as_dict(entry), "at": time.time()} for entry in entries]
        if rows:
            self._write(lambda connection: connection.execute(schema.mark.insert(), rows))

    def save_judgement(self, entry: JudgementEntry) -> None:
        """Write one answer of a judge."""
        row = {**as_dict(entry), "at": time.time(), "reply": pack_text(entry.reply)}
        self._write(lambda connection: connection.execute(schema.judgement.insert().values(**row)))

    def judged(self, judge: str) -> set[tuple[str, str | None, int]]:
        """Items and round of every question that a judge was asked already."""
        table = schema.judgement
        with self.reading() as connection:
            query = sa.select(table.c.first_item, table.c.second_item, table.c.round)
            return {tuple(row) for row in connection.execute(query.where(table.c.judge == judge))}

    def save_signature(self, entry: SignatureEntry) -> None:
        """Add a signature; none is ever changed."""
        row = {**as_dict(entry), "verdicts": json.dumps(entry.verdicts)}
        self._write(lambda connection: connection.execute(schema.signature.insert().values(**row)))

    def save_note(self, text: str, candidate_id: int | None = None) -> None:
        """Write what a reader of the record should know; what is written already is not repeated."""
        self._put(kinds.NOTE, NoteEntry(text=text, candidate_id=candidate_id))
