"""The conductor: what happens in which order, candidate by candidate, so that a campaign can be resumed."""

import dataclasses
import os
from concurrent.futures import ThreadPoolExecutor

from kettlefield.campaign.answers import Desk, exchange_entry, run_answers, sampling_of
from kettlefield.campaign.asked import Asked
from kettlefield.campaign.guard import guard_session, short_request
from kettlefield.campaign.measuring import ANSWERS, PARTS, SPEED, Job, measure, steps_left
from kettlefield.campaign.observer import Observer
from kettlefield.campaign.plan import Candidate, Plan
from kettlefield.campaign.prompts import render_exercise
from kettlefield.campaign.registry import Registered, begin_campaign, budget_warning, register_candidates
from kettlefield.campaign.serving import Place, Session, load_from_disk, serving
from kettlefield.core.errors import ServerError
from kettlefield.core.outcome import FAULTS, Outcome
from kettlefield.record.entries import TrialEntry
from kettlefield.record.store import Record
from kettlefield.rig.accelerators import Accelerator, Watched
from kettlefield.sandbox.isolation import Isolation
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
    parts: frozenset[str] = frozenset(PARTS)


@dataclasses.dataclass(frozen=True, slots=True, kw_only=True)
class Work:
    """What is to be done for one candidate in one block."""

    registered: Registered
    scope: Scope
    share: float  # of all trials and timed requests that are to be in the record after this block
    graders: ThreadPoolExecutor


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
        self._accelerator = Watched(accelerator, self._note) if accelerator is not None else None
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
        if ANSWERS in scope.parts:
            total = sum(c.grading.samples for c in chosen) * len(scope.exercises)
            left = sum(len(self._pending(c, known[c.name].id, scope, 1.0)) for c in chosen)
            self._observer.planned(total, total - left)
        blocks = self._plan.rig.blocks
        with ThreadPoolExecutor(max(1, os.cpu_count() or 1), thread_name_prefix="grader") as graders:
            for block in range(1, blocks + 1):
                for candidate in chosen:
                    work = Work(registered=known[candidate.name], scope=scope, share=block / blocks, graders=graders)
                    try:
                        await self._run_candidate(candidate, work)
                    except ServerError as err:
                        self._trouble(candidate, known[candidate.name].id, str(err))
        return self._tally

    def _pending(
        self, candidate: Candidate, candidate_id: int, scope: Scope, share: float
    ) -> list[tuple[Exercise, int]]:
        """What of the first so much of all trials is not in the record yet."""
        finished = self._record.finished(candidate_id)
        planned = [
            (exercise, sample)
            for sample in range(1, candidate.grading.samples + 1)
            for exercise in self._asked.exercises
            if exercise.id in scope.exercises
        ]
        return [pair for pair in planned[: round(len(planned) * share)] if (pair[0].id, pair[1]) not in finished]

    async def _run_candidate(self, candidate: Candidate, work: Work) -> None:
        candidate_id = work.registered.id
        pending = self._pending(candidate, candidate_id, work.scope, work.share) if ANSWERS in work.scope.parts else []
        steps = steps_left(candidate, self._record.procedures(candidate_id), work.scope.parts)
        place = Place(
            plan=self._plan,
            candidate=candidate,
            candidate_id=candidate_id,
            record=self._record,
            accelerator=self._accelerator,
        )
        wants_cold = self._wants_cold_load(candidate, candidate_id, work.scope)
        if not pending and not steps and not wants_cold:
            return
        warning = budget_warning(candidate.name, work.registered.predicted_bytes, self._plan.rig.memory_budget)
        if warning is not None and work.share * self._plan.rig.blocks <= 1:
            self._record.save_note(warning, candidate_id)
            self._observer.trouble(warning)
        self._observer.phase(candidate.name, "load")
        if wants_cold:
            ask = short_request(candidate.prompting, sampling_of(candidate, candidate.sampling.seed))
            await load_from_disk(place, lambda client: client.ask(ask))
        async with serving(place, load_kind="warm" if wants_cold else "as found") as session:
            await self._guard(candidate, candidate_id, session)
            if steps:
                await self._measure(candidate, candidate_id, session, steps, work.share)
            if pending:
                await self._answers_part(candidate, candidate_id, session, pending, work.graders)

    def _wants_cold_load(self, candidate: Candidate, candidate_id: int, scope: Scope) -> bool:
        starts_it = candidate.server.url is None and candidate.weights is not None
        asked = candidate.speed.cold_load and SPEED in scope.parts and starts_it
        return asked and not self._record.has_cold_load(candidate_id)

    async def _guard(self, candidate: Candidate, candidate_id: int, session: Session) -> None:
        if not candidate.prompting.guard:
            return
        sampling = sampling_of(candidate, candidate.sampling.seed)
        guarded = await guard_session(session.client, candidate.prompting, sampling)
        session.answered(guarded.exchanges[0])
        for exchange in guarded.exchanges:
            self._record.save_exchange(exchange_entry(exchange, "guard", candidate_id, session.id))
        if guarded.refusal is not None and session.is_alive():
            where, hint = session.url, "Correct [sampling] or [prompting]; the server's log may say more."
            raise ServerError(f"{candidate.name}: a first short request failed: it {guarded.refusal}", where, hint)
        for warning in guarded.warnings:
            text = f"{candidate.name}: check [prompting] and [sampling]: {warning}"
            self._record.save_note(text, candidate_id)
            self._observer.trouble(text)

    async def _measure(
        self, candidate: Candidate, candidate_id: int, session: Session, steps: tuple[str, ...], share: float
    ) -> None:
        job = Job(
            candidate=candidate,
            candidate_id=candidate_id,
            session=session,
            asks=[render_exercise(exercise, candidate.prompting) for exercise in self._asked.exercises],
            sampling=sampling_of(candidate, candidate.sampling.seed),
            trouble=lambda text: self._trouble(candidate, candidate_id, text),
            note=lambda text: self._note(text, candidate_id),
            phase=lambda name: self._observer.phase(candidate.name, name),
            seen=self._observer.seen,
            share=share,
        )
        await measure(job, steps)

    async def _answers_part(
        self,
        candidate: Candidate,
        candidate_id: int,
        session: Session,
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
            exchange = entry.attempts[-1].exchange
            rate = exchange.figures.decode_rate_tps if exchange is not None else None
            self._observer.seen(rate, session.sampler.last_bytes)

        desk = Desk(
            candidate=candidate,
            candidate_id=candidate_id,
            session_id=session.id,
            client=session.client,
            server_is_alive=session.is_alive,
            isolation=self._isolation,
            graders=graders,
            save=save,
        )
        try:
            await run_answers(desk, pending)
        except BaseExceptionGroup as group:
            raise _first(group) from group
        session.save_phase("answers")
        if session.process is not None and not session.process.is_alive:
            words = session.process.last_words()
            self._trouble(candidate, candidate_id, f"{candidate.name}: the server died half-way: {words}")

    def _note(self, text: str, candidate_id: int | None = None) -> None:
        self._record.save_note(text, candidate_id)
        self._observer.trouble(text)

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
