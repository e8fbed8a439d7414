"""The conductor: what happens in which order, candidate by candidate, so that a campaign can be resumed."""

import dataclasses
import os
from concurrent.futures import ThreadPoolExecutor

from kettlefield.campaign.answers import Desk, exchange_entry, run_answers, sampling_of
from kettlefield.campaign.asked import Asked
from kettlefield.campaign.guard import guard_session
from kettlefield.campaign.observer import Observer
from kettlefield.campaign.plan import Candidate, Plan
from kettlefield.campaign.prompts import render_exercise
from kettlefield.campaign.registry import Registered, begin_campaign, budget_warning, register_candidates
from kettlefield.campaign.serving import Session, serving
from kettlefield.core.errors import ServerError
from kettlefield.core.outcome import FAULTS, Outcome
from kettlefield.instrument.speed import SpeedSettings, time_requests
from kettlefield.record.entries import TrialEntry
from kettlefield.record.store import Record
from kettlefield.rig.accelerators import Accelerator
from kettlefield.sandbox.isolation import Isolation
from kettlefield.server.http_client import HttpClient
from kettlefield.suite.format import Exercise


@dataclasses.dataclass(slots=True, kw_only=True)
class Tally:
    """What one run of the conductor came to."""

    trials: int = 0  # put into the record by this run
    faults: int = 0  # of them, ended in a fault of server or rig
    troubles: list[str] = dataclasses.field(default_factory=list)  # candidates that could not be measured


@dataclasses.dataclass(frozen=True, slots=True, kw_only=True)
class Scope:
    """What of the plan is to be run."""

    candidates: frozenset[str]
    exercises: frozenset[str]


class Conductor:
    """Carries out one plan on one record."""

    def __init__(
        self,
        plan: Plan,
        asked: Asked,
        record: Record,
        isolation: Isolation,
        accelerator: Accelerator | None,
        observer: Observer,
    ) -> None:
        self._plan = plan
        self._asked = asked
        self._record = record
        self._isolation = isolation
        self._accelerator = accelerator
        self._observer = observer
        self._tally = Tally()

    async def run(self, scope: Scope) -> Tally:
        """Run what is not yet in the record.

        Raises
        ------
        InputError
            The record holds a campaign of another plan or suite, or weights changed since it began.
        RigError
            The record cannot be written.
        """
        begin_campaign(self._record, self._plan, self._asked, self._isolation, self._accelerator)
        chosen = [candidate for candidate in self._plan.candidates if candidate.name in scope.candidates]
        known = await register_candidates(self._record, chosen, self._accelerator, self._observer)
        pending = {c.name: self._pending(c, known[c.name].id, scope.exercises) for c in chosen}
        total = sum(c.grading.samples for c in chosen) * len(scope.exercises)
        self._observer.planned(total, total - sum(map(len, pending.values())))
        with ThreadPoolExecutor(max(1, os.cpu_count() or 1), thread_name_prefix="grader") as graders:
            for candidate in chosen:
                try:
                    await self._run_candidate(candidate, known[candidate.name], pending[candidate.name], graders)
                except ServerError as err:
                    self._trouble(candidate, known[candidate.name].id, str(err))
        return self._tally

    def _pending(
        self, candidate: Candidate, candidate_id: int, exercises: frozenset[str]
    ) -> list[tuple[Exercise, int]]:
        finished = self._record.finished(candidate_id)
        return [
            (exercise, sample)
            for sample in range(1, candidate.grading.samples + 1)
            for exercise in self._asked.exercises
            if exercise.id in exercises and (exercise.id, sample) not in finished
        ]

    async def _run_candidate(
        self,
        candidate: Candidate,
        registered: Registered,
        pending: list[tuple[Exercise, int]],
        graders: ThreadPoolExecutor,
    ) -> None:
        candidate_id = registered.id
        timed = self._record.speed_samples(candidate_id)
        if not pending and timed >= candidate.speed.requests:
            return
        warning = budget_warning(candidate.name, registered.predicted_bytes, self._plan.rig.memory_budget)
        if warning is not None:
            self._record.save_note(warning, candidate_id)
            self._observer.trouble(warning)
        self._observer.phase(candidate.name, "load")
        async with serving(self._plan, candidate, candidate_id, self._record, self._accelerator) as session:
            client = HttpClient(
                session.url, reply_within_s=candidate.server.reply_within, model=candidate.server.served_model
            )
            try:
                await self._guard(candidate, candidate_id, session, client)
                if timed < candidate.speed.requests:
                    await self._speed_part(candidate, candidate_id, session, client, candidate.speed.requests - timed)
                if pending:
                    await self._answers_part(candidate, candidate_id, session, client, pending, graders)
            finally:
                await client.close()

    async def _guard(self, candidate: Candidate, candidate_id: int, session: Session, client: HttpClient) -> None:
        if not candidate.prompting.guard:
            return
        sampling = sampling_of(candidate, candidate.sampling.seed)
        guarded = await guard_session(client, candidate.prompting, sampling)
        for exchange in guarded.exchanges:
            self._record.save_exchange(exchange_entry(exchange, "guard", candidate_id, session.id))
        if guarded.refusal is not None and session.is_alive():
            where, hint = session.url, "Correct [sampling] or [prompting]; the server's log may say more."
            raise ServerError(f"{candidate.name}: a first short request failed: it {guarded.refusal}", where, hint)
        for warning in guarded.warnings:
            text = f"{candidate.name}: check [prompting] and [sampling]: {warning}"
            self._record.save_note(text, candidate_id)
            self._observer.trouble(text)

    async def _speed_part(
        self, candidate: Candidate, candidate_id: int, session: Session, client: HttpClient, requests: int
    ) -> None:
        self._observer.phase(candidate.name, "speed")
        asks = [render_exercise(exercise, candidate.prompting) for exercise in self._asked.exercises]
        table = candidate.speed
        settings = SpeedSettings(warm_up=table.warm_up, requests=requests, reply_tokens=table.reply_tokens)
        async for purpose, exchange in time_requests(
            client, asks, sampling_of(candidate, candidate.sampling.seed), settings
        ):
            self._record.save_exchange(exchange_entry(exchange, purpose, candidate_id, session.id))
            if exchange.fault is not None:
                self._trouble(
                    candidate,
                    candidate_id,
                    f"{candidate.name}: the speed part stopped: the server {exchange.fault}",
                )
        session.save_memory("speed")

    async def _answers_part(
        self,
        candidate: Candidate,
        candidate_id: int,
        session: Session,
        client: HttpClient,
        pending: list[tuple[Exercise, int]],
        graders: ThreadPoolExecutor,
    ) -> None:
        self._observer.phase(candidate.name, "answers")

        def save(entry: TrialEntry) -> None:
            self._record.save_trial(entry)
            self._tally.trials += 1
            self._tally.faults += entry.outcome in FAULTS
            if entry.outcome is Outcome.RIG_FAULT:
                self._observer.trouble(f"{candidate.name}, {entry.exercise_id}: {entry.attempts[-1].fault}")
            self._observer.trial_done(candidate.name, entry.exercise_id, entry.outcome)

        desk = Desk(
            candidate=candidate,
            candidate_id=candidate_id,
            session_id=session.id,
            client=client,
            server_is_alive=session.is_alive,
            isolation=self._isolation,
            graders=graders,
            save=save,
        )
        try:
            await run_answers(desk, pending)
        except BaseExceptionGroup as group:
            raise _first(group) from group
        session.save_memory("answers")
        if session.process is not None and not session.process.is_alive:
            words = session.process.last_words()
            self._trouble(candidate, candidate_id, f"{candidate.name}: the server died half-way: {words}")

    def _trouble(self, candidate: Candidate, candidate_id: int, text: str) -> None:
        self._tally.troubles.append(text)
        self._record.save_note(text, candidate_id)
        self._observer.trouble(text)


def _first(group: BaseExceptionGroup) -> BaseException:
    """The first plain exception inside nested groups: one fault is reported, not the tree of tasks."""
    inner: BaseException = group
    while isinstance(inner, BaseExceptionGroup):
        inner = inner.exceptions[0]
    return inner
