"""The conductor: what happens in which order, candidate by candidate, so that a campaign can be resumed."""

import asyncio
import math
import time
from collections.abc import Callable, Mapping
from concurrent.futures import ThreadPoolExecutor

import msgspec

from kettlefield.campaign.deciding import Deciding
from kettlefield.campaign.fixed_texts import fixed_texts
from kettlefield.campaign.learning import learn
from kettlefield.campaign.measuring import ANSWERS, Job, measure, steps_left
from kettlefield.campaign.preflight import short_request
from kettlefield.campaign.prompts import render_exercise
from kettlefield.campaign.registering import Registered, budget_warning, predict_again, register_candidates
from kettlefield.campaign.serving import Place, Session, load_from_disk, serving
from kettlefield.campaign.session_checks import PREFLIGHT, SessionChecks
from kettlefield.campaign.setup import Observer, begin_campaign, enter_rig
from kettlefield.campaign.trial_runner import Desk, Due, run_answers, sampling_of
from kettlefield.campaign.turns import Turn, next_turn
from kettlefield.campaign.work import Died, Left, Scope, Tally, Work, within_time
from kettlefield.core.errors import ServerError
from kettlefield.core.outcome import FAULTS, Outcome
from kettlefield.core.units import format_duration
from kettlefield.grading.grader import Grader
from kettlefield.measure.depth import PAST_WINDOW
from kettlefield.measure.procedure import SPEED
from kettlefield.plan.candidates import Candidate
from kettlefield.plan.plan import Plan
from kettlefield.plan.suite_selection import Asked
from kettlefield.record.entries import TrialEntry, filled_phase
from kettlefield.record.store import Record
from kettlefield.results.memory_use import token_slope
from kettlefield.results.shared_answers import runtime_of, shared_answers
from kettlefield.rig.accelerators import Accelerator, Watched
from kettlefield.workspace.tool_calls import CallForm

MOST_RESTARTS = 3  # of a candidate's server that died, in one block
ASKED_SHARE = 0.9  # of a candidate's time; what was asked by then may be answered and graded in the rest


class Conductor:
    """Carries out one plan on one record."""

    def __init__(
        self,
        plan: Plan,
        asked: Asked,
        record: Record,
        grader: Grader,
        accelerator: Accelerator | None,
        observer: Observer,
    ) -> None:
        self._plan = plan
        self._asked = asked
        self._record = record
        self._grader = grader
        self._accelerator = Watched(accelerator, self._note) if accelerator is not None else None
        self._observer = observer
        self._tally = Tally()
        self._is_simulated = accelerator is not None and accelerator.simulated
        self._checks = SessionChecks(plan, asked, record, observer, self._note)
        self._phase = ""  # of the candidate that is served now
        self._deciding: Deciding | None = None  # where candidates stop when they are decided
        self._tried: dict[int, frozenset[str]] = {}  # procedures that a candidate was put through, by its id

    async def run(self, scope: Scope) -> Tally:
        """Run what is not yet in the record.

        Raises
        ------
        InputError
            The record holds a campaign of another plan or suite, or weights changed since it began.
        RigError
            The record cannot be written.
        """
        begin_campaign(self._record, self._plan, self._asked, self._grader.isolation, self._accelerator)
        chosen = [candidate for candidate in self._plan.candidates if candidate.name in scope.candidates]
        rig_id = enter_rig(self._record, self._plan, self._asked, self._grader.isolation, self._accelerator)
        known = await register_candidates(self._record, chosen, self._accelerator, self._observer, rig_id)
        if ANSWERS in scope.parts:
            total = sum(c.grading.samples * len(c.grading.fills) for c in chosen) * len(scope.exercises)
            left = sum(len(self._pending(c, known[c.name].id, scope, 1.0)) for c in chosen)
            self._observer.planned(total, total - left)
        blocks = self._plan.rig.blocks
        with ThreadPoolExecutor(self._grader.at_once, thread_name_prefix="grader") as threads:
            if self._plan.campaign.until == "decided":
                self._deciding = Deciding(self._plan, self._record, self._note, complete=scope.complete)
                await self._run_until_decided(self._deciding, chosen, known, scope, threads)
                return self._tally
            for block in range(1, blocks + 1):
                for candidate in chosen:
                    work = Work(registered=known[candidate.name], scope=scope, share=block / blocks, threads=threads)
                    await self._run_or_trouble(candidate, work)
        return self._tally

    async def _run_or_trouble(self, candidate: Candidate, work: Work) -> None:
        try:
            await self._run_within(candidate, work)
        except ServerError as err:
            self._trouble(candidate, work.registered.id, str(err))

    async def _run_until_decided(
        self,
        deciding: Deciding,
        chosen: list[Candidate],
        known: Mapping[str, Registered],
        scope: Scope,
        threads: ThreadPoolExecutor,
    ) -> None:
        """Turn after turn, until nobody needs another or the time is over."""
        budget_s = self._plan.campaign.budget
        until_s = math.inf if budget_s is None else time.monotonic() + budget_s
        by_name, names = {one.name: one for one in chosen}, [one.name for one in chosen]
        stalled, had_a_turn = set[str](), set[str]()
        deciding.say_what_waits()
        while time.monotonic() < until_s:
            standings = [
                deciding.standing(
                    one,
                    # what could not be measured in one turn is not tried again in the next
                    to_be_measured=one.name not in had_a_turn and self._is_to_be_measured(one, known, scope),
                    among=names,
                )
                for one in chosen
            ]
            if ANSWERS not in scope.parts:
                standings = [msgspec.structs.replace(one, wants_more=False) for one in standings]
            turn = next_turn(standings, deciding.blocks.count, stalled, by_chance=budget_s is not None)
            if turn is None:
                break
            candidate = by_name[turn.candidate]
            work = Work(
                registered=known[turn.candidate],
                scope=scope,
                share=1.0,
                threads=threads,
                ask_until_s=until_s,
                turn=turn,
            )
            had_a_turn.add(turn.candidate)
            before = self._amount_done(candidate, work.registered.id)
            await self._run_or_trouble(candidate, work)
            if self._amount_done(candidate, work.registered.id) == before:
                stalled.add(turn.candidate)
        for candidate in chosen:
            self._say_left_out(deciding, candidate, known[candidate.name].id, scope)
        if time.monotonic() >= until_s and any(deciding.is_open(one) for one in chosen):
            names_open = ", ".join(one.name for one in chosen if deciding.is_open(one))
            self._note(
                f"the budget of {format_duration(budget_s or 0.0)} was over before all was decided: {names_open}"
            )

    def _is_to_be_measured(self, candidate: Candidate, known: Mapping[str, Registered], scope: Scope) -> bool:
        candidate_id = known[candidate.name].id
        steps = steps_left(candidate, self._record.procedures(candidate_id), scope.parts)
        return bool(steps) or self._wants_cold_load(candidate, candidate_id, scope)

    def _amount_done(self, candidate: Candidate, candidate_id: int) -> tuple[int, int]:
        return len(self._record.finished(candidate_id)), len(self._record.procedures(candidate_id))

    def _say_left_out(self, deciding: Deciding, candidate: Candidate, candidate_id: int, scope: Scope) -> None:
        """Take what nobody needs any more out of what is shown as left."""
        why = deciding.rejected_apart(candidate)
        if why is not None and not self._record.finished(candidate_id):
            self._note(f"{candidate.name}: never saw the suite: {why}", candidate_id)
        if ANSWERS in scope.parts and (why is not None or not deciding.is_open(candidate)):
            left = len(self._pending(candidate, candidate_id, scope, 1.0))
            self._observer.looked(candidate.name, "", left)

    def _pending(
        self, candidate: Candidate, candidate_id: int, scope: Scope, share: float, turn: Turn | None = None
    ) -> list[Due]:
        """Which of the first share of all trials, or of the blocks of a turn, is not in the record yet."""
        if self._record.answers_from(candidate_id) not in {None, candidate_id}:
            return []  # it shares those of another rig
        finished = self._record.finished(candidate_id)
        exercises = [exercise for exercise in self._asked.exercises if exercise.id in scope.exercises]
        if turn is not None and self._deciding is not None:
            block_of = self._deciding.blocks.of
            exercises = [one for one in exercises if block_of.get(one.id, turn.upto + 1) <= turn.upto]
        planned = [
            Due(exercise, sample, fill)
            for sample in range(1, candidate.grading.samples + 1)
            for fill in candidate.grading.fills
            for exercise in exercises
            if fill is None or not exercise.workspace
        ]
        return [
            due
            for due in planned[: round(len(planned) * share)]
            if (due.exercise.id, due.sample, due.fill) not in finished
        ]

    async def _run_within(self, candidate: Candidate, work: Work) -> None:
        """One candidate in the time that it may take: what is running then is broken off, what was found is kept."""
        limit_s = work.scope.within_s
        if limit_s is None:
            await self._run_candidate(candidate, work)
            return
        try:
            async with asyncio.timeout(limit_s):
                until_s = time.monotonic() + ASKED_SHARE * limit_s
                await self._run_candidate(candidate, msgspec.structs.replace(work, ask_until_s=until_s))
        except TimeoutError:
            pass
        left = len(self._pending(candidate, work.registered.id, work.scope, work.share))
        if left and ANSWERS in work.scope.parts:
            text = f"{candidate.name}: its {format_duration(limit_s)} were over; {left} trials were not asked"
            self._note(text, work.registered.id)

    async def _run_candidate(self, candidate: Candidate, work: Work) -> None:
        """Whatever of a candidate is left in this block; a server that dies is started again, a few times."""
        candidate_id = work.registered.id
        if self._deciding is None:
            self._tried.pop(candidate_id, None)  # in the next block it is timed further
        for restart in range(1 + MOST_RESTARTS):
            left = self._left(candidate, work)
            if left.is_empty or work.is_over:
                return
            died = await self._serve(candidate, work, left)
            if died is None:
                self._tried[candidate_id] = self._tried.get(candidate_id, frozenset()) | set(left.steps)
                return
            tried = left.steps[: left.steps.index(died.during) + 1] if died.during in left.steps else ()
            self._tried[candidate_id] = self._tried.get(candidate_id, frozenset()) | set(tried)
            said = ""
            if not self._left(candidate, work).is_empty:
                again = restart < MOST_RESTARTS
                said = "; it is started again" if again else "; what is left of it is not measured"
            text = f"{candidate.name}: the server {died.words}{said}"
            if died.during == PAST_WINDOW:
                self._note(text, work.registered.id)  # that is what was to be found out
            else:
                self._trouble(candidate, work.registered.id, text)

    def _left(self, candidate: Candidate, work: Work) -> Left:
        candidate_id, scope = work.registered.id, work.scope
        steps = steps_left(candidate, self._record.procedures(candidate_id), scope.parts)
        return Left(
            pending=self._pending(candidate, candidate_id, scope, work.share, work.turn)
            if ANSWERS in scope.parts and self._goes_on(candidate, work)
            else [],
            # the procedure that it died in would bring it down again, and what ended badly in one turn in the next too
            steps=tuple(step for step in steps if step not in self._tried.get(candidate_id, ())),
            cold_load=self._wants_cold_load(candidate, candidate_id, scope),
        )

    def _goes_on(self, candidate: Candidate, work: Work, block: int = 0) -> bool:
        """Whether a candidate is to be asked more: after a block, or at all."""
        if self._deciding is None or work.turn is None:
            return True
        needed = block < work.turn.least or self._deciding.is_open(candidate)
        return needed and self._deciding.rejected_apart(candidate) is None

    async def _serve(self, candidate: Candidate, work: Work, left: Left) -> Died | None:
        """One start of the server, and all that is left to do with it; how it died, if it did."""
        candidate_id = work.registered.id
        registered = predict_again(self._record, candidate, work.registered, self._accelerator)
        place = Place(
            plan=self._plan,
            candidate=candidate,
            candidate_id=candidate_id,
            record=self._record,
            accelerator=self._accelerator,
        )
        warning = budget_warning(candidate.name, registered.predicted_bytes, self._plan.rig.memory_budget)
        if warning is not None and work.share * self._plan.rig.blocks <= 1:
            self._record.save_note(warning, candidate_id)
            self._observer.trouble(warning)
        if left.cold_load:
            self._observer.phase(candidate.name, "cold load")
            ask = short_request(candidate.prompting, sampling_of(candidate, candidate.sampling.seed))
            await load_from_disk(place, lambda client: client.ask(ask))
        self._observer.phase(candidate.name, "load")
        async with serving(place, load_kind="warm" if left.cold_load else "as found") as session:
            session.phase = self._phase = PREFLIGHT
            neutral = await self._checks.preflight(candidate, candidate_id, session, left.steps)
            await session.save_loaded(place.weights_files)
            if left.steps and session.is_alive():
                await self._measure(
                    within_time(candidate, work), candidate_id, session, left.steps, work.share, neutral
                )
            if (
                left.pending
                and session.is_alive()
                and self._goes_on(candidate, work)
                and self._is_asked_here(candidate, candidate_id, session, len(left.pending))
            ):
                await self._answers_part(candidate, candidate_id, session, left.pending, work, neutral)
            server = session.server
            died = None
            if not server.is_alive:
                words = f"{server.how_it_ended()}; its log ends: {server.last_words()}"
                died = Died(words=words, during=self._phase)
        if not self._is_simulated:
            learn(self._record, candidate, candidate_id, token_slope(self._record, candidate.name))
        return died

    def _is_asked_here(self, candidate: Candidate, candidate_id: int, session: Session, pending: int) -> bool:
        """Whether a candidate is asked on this rig, or shares the answers of another whose runtime is the same."""
        if self._plan.campaign.answers == "each":
            return True
        runtime = runtime_of(self._record, session.id)
        if self._record.claim_answers(candidate_id, runtime) == candidate_id:
            if runtime is None:
                text = f"{candidate.name}: it is asked here, since what serves it cannot be told from outside"
                self._record.save_note(text, candidate_id)
            return True
        other = shared_answers(self._record)[candidate.name]
        text = f"{candidate.name}: its answers are those of {other}, which has the same weights, settings and libraries"
        self._record.save_note(text, candidate_id)
        self._observer.looked(candidate.name, f"shares the answers of {other}", pending)
        return False

    def _wants_cold_load(self, candidate: Candidate, candidate_id: int, scope: Scope) -> bool:
        starts_it = candidate.server.url is None and candidate.weights is not None
        asked = candidate.speed.cold_load and SPEED in scope.parts and starts_it
        return asked and not self._record.has_cold_load(candidate_id)

    def _timing_decided(self, candidate: Candidate) -> Callable[[tuple[int, ...], int], bool] | None:
        """What says whether enough was timed; none where everything is measured."""
        deciding = self._deciding
        if deciding is None or not deciding.looks_at_timing(candidate):
            return None
        return lambda looks, most: deciding.timing_is_decided(candidate, looks, most)

    async def _measure(
        self,
        candidate: Candidate,
        candidate_id: int,
        session: Session,
        steps: tuple[str, ...],
        share: float,
        neutral: Mapping[str, float],
    ) -> None:
        def enter(name: str) -> None:
            session.phase = self._phase = name
            self._observer.phase(candidate.name, name)

        job = Job(
            candidate=candidate,
            candidate_id=candidate_id,
            session=session,
            asks=[render_exercise(exercise, candidate.prompting) for exercise in self._asked.exercises],
            texts=fixed_texts(candidate.fidelity, self._asked.exercises, self._plan.folder),
            sampling=sampling_of(candidate, candidate.sampling.seed, neutral),
            trouble=lambda text: self._trouble(candidate, candidate_id, text),
            note=lambda text: self._note(text, candidate_id),
            phase=enter,
            seen=self._observer.seen,
            share=share,
            is_decided=self._timing_decided(candidate),
        )
        await measure(job, steps)

    async def _answers_part(
        self,
        candidate: Candidate,
        candidate_id: int,
        session: Session,
        pending: list[Due],
        work: Work,
        neutral: Mapping[str, float],
    ) -> None:
        scope, threads = work.scope, work.threads
        session.phase = self._phase = ANSWERS
        fit = await self._checks.fit(candidate, candidate_id, session, scope.exercises, neutral)
        filling = await self._checks.filling(candidate, candidate_id, session, fit, neutral)
        form: CallForm | None = "blocks"
        if any(due.exercise.workspace for due in pending):
            form = await self._checks.call_form(candidate, candidate_id, session, neutral)
        if form is None:
            pending = [due for due in pending if not due.exercise.workspace]
        self._observer.phase(candidate.name, ANSWERS)

        def save(entry: TrialEntry) -> None:
            self._record.save_trial(entry)
            self._tally.trials += 1
            self._tally.faults += entry.outcome in FAULTS
            if entry.outcome is Outcome.RIG_FAULT:
                self._observer.trouble(f"{candidate.name}, {entry.exercise_id}: {entry.attempts[-1].fault}")
            self._observer.trial_done(candidate.name, entry.exercise_id, entry.outcome)
            exchange = entry.attempts[-1].exchange
            rate = exchange.figures.decode_tps if exchange is not None else None
            self._observer.seen(rate, session.sampler.last_bytes)

        desk = Desk(
            candidate=candidate,
            candidate_id=candidate_id,
            session_id=session.id,
            client=session.client,
            server_is_alive=lambda: session.is_alive() and not work.is_over,
            grader=self._grader,
            threads=threads,
            save=save,
            neutral=neutral,
            over_context=fit.over,
            call_form=form or "blocks",
            filling=filling,
        )
        upto = work.turn.upto if work.turn is not None else None
        for block, of_block in self._by_block(pending):
            await self._ask_pending(candidate, candidate_id, session, desk, of_block)
            if self._deciding is not None and session.is_alive() and not work.is_over:
                step = self._deciding.catch_up(candidate)
                if step is not None:
                    self._observer.looked(candidate.name, step.words, 0)
                if not self._goes_on(candidate, work, block):
                    upto = block
                    break
        turn = msgspec.structs.replace(work.turn, upto=upto) if work.turn is not None and upto is not None else None
        left = sum(
            form is not None or not due.exercise.workspace
            for due in self._pending(candidate, candidate_id, scope, work.share, turn)
        )
        if left and session.is_alive() and not work.is_over:
            text = f"{candidate.name}: the server takes no connections; {left} trials were not asked"
            self._trouble(candidate, candidate_id, f"{text}; the same command resumes")

    def _by_block(self, pending: list[Due]) -> list[tuple[int, list[Due]]]:
        """What is to be asked, block after block; a campaign without blocks has one."""
        if self._deciding is None:
            return [(0, pending)] if pending else []
        of = self._deciding.blocks.of
        blocks = sorted({of[due.exercise.id] for due in pending})
        return [(block, [due for due in pending if of[due.exercise.id] == block]) for block in blocks]

    async def _ask_pending(
        self, candidate: Candidate, candidate_id: int, session: Session, desk: Desk, pending: list[Due]
    ) -> None:
        """Trials at every fill of the context, the exercise alone first."""
        for fill in candidate.grading.fills:
            due = [one for one in pending if one.fill == fill]
            session.phase = self._phase = ANSWERS if fill is None else filled_phase(fill)
            if fill is not None:
                desk = msgspec.structs.replace(desk, task_tokens=self._record.task_tokens(candidate_id))
            try:
                await run_answers(desk, due)
            except BaseExceptionGroup as group:
                raise _first(group) from group
            if due:
                session.save_phase()

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
