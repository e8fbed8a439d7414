"""The conductor: what happens in which order, candidate by candidate, so that a campaign can be resumed."""

import asyncio
import dataclasses
import json
import os
from collections.abc import AsyncIterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import asynccontextmanager

import msgspec

from kettlefield.campaign.answers import Desk, exchange_entry, run_answers, sampling_of
from kettlefield.campaign.observer import Observer
from kettlefield.campaign.plan import Candidate, Plan
from kettlefield.campaign.prompts import render_messages
from kettlefield.core.errors import InputError, ServerError
from kettlefield.core.outcome import FAULTS, Outcome
from kettlefield.instrument.memory import MemorySampler
from kettlefield.instrument.speed import SpeedSettings, time_requests
from kettlefield.record.entries import CampaignEntry, CandidateEntry, ExerciseEntry, MemoryEntry, SessionEntry, TrialEntry
from kettlefield.record.packing import pack_series
from kettlefield.record.store import Record
from kettlefield.rig.accelerators import Accelerator
from kettlefield.rig.host import read_host
from kettlefield.rig.toolchains import Missing, Toolchain, find_toolchain
from kettlefield.sandbox.isolation import Isolation
from kettlefield.server.http_client import HttpClient
from kettlefield.server.process import Launch, ServerProcess, describe_server, start_server, wait_for_url
from kettlefield.suite.format import Exercise, Suite
from kettlefield.weights.digest import weights_digest


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


@dataclasses.dataclass(frozen=True, slots=True, kw_only=True)
class _Session:
    """A server that is ready to be asked."""

    id: int
    url: str
    process: ServerProcess | None  # none when attached by url
    sampler: MemorySampler | None

    def is_alive(self) -> bool:
        return self.process is None or self.process.is_alive


class Conductor:
    """Carries out one plan on one record."""

    def __init__(
        self,
        plan: Plan,
        suite: Suite,
        record: Record,
        isolation: Isolation,
        accelerator: Accelerator | None,
        observer: Observer,
    ) -> None:
        self._plan = plan
        self._suite = suite
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
        self._begin()
        chosen = [candidate for candidate in self._plan.candidates if candidate.name in scope.candidates]
        ids = await self._register(chosen)
        pending = {c.name: self._pending(c, ids[c.name], scope.exercises) for c in chosen}
        total = sum(c.grading.samples for c in chosen) * len(scope.exercises)
        self._observer.planned(total, total - sum(map(len, pending.values())))
        with ThreadPoolExecutor(max(1, os.cpu_count() or 1), thread_name_prefix="grader") as graders:
            for candidate in chosen:
                try:
                    await self._run_candidate(candidate, ids[candidate.name], pending[candidate.name], graders)
                except ServerError as err:
                    self._trouble(candidate, ids[candidate.name], str(err))
        return self._tally

    def _begin(self) -> None:
        """Write the campaign down, or make sure that the one in the record is this one."""
        found = self._record.campaign()
        if found is None:
            self._record.begin(self._campaign_entry(), [_exercise_entry(e) for e in self._suite.exercises])
            return
        place = str(self._record.path)
        if found["suite_digest"] != self._suite.digest:
            raise InputError(
                f"was begun with another state of the suite {found['suite_name']} ({found['suite_digest'][:19]})",
                place,
                "Restore the suite, or give the plan a new record.",
            )
        changed = self._changed_parts(found["plan_parts"])
        if changed:
            raise InputError(
                f"was begun with another plan; changed since: {', '.join(changed)}",
                place,
                "Undo the change, or give the plan a new record: results under other settings are never mixed in.",
            )

    def _changed_parts(self, stored: str) -> list[str]:
        before: dict[str, str] = json.loads(stored)
        now = self._plan.parts
        # candidates may be added to a running campaign; whatever was there must be as it was
        return [name for name, digest in before.items() if now.get(name) != digest]

    def _campaign_entry(self) -> CampaignEntry:
        languages = sorted({exercise.spec.language for exercise in self._suite.exercises})
        accelerator = self._accelerator
        rig: dict[str, object] = {
            "host": msgspec.to_builtins(read_host()),
            "accelerator": None
            if accelerator is None
            else {"name": accelerator.name, "memory_bytes": accelerator.memory_bytes},
            "toolchains": {name: _toolchain_version(name) for name in languages},
            "isolation": {"name": self._isolation.name, "lacks": list(self._isolation.lacks)},
        }
        return CampaignEntry(
            title=self._plan.title,
            plan_text=self._plan.text,
            plan_digest=self._plan.digest,
            plan_parts=self._plan.parts,
            suite_name=self._suite.name,
            suite_digest=self._suite.digest,
            rig=rig,
            simulated=accelerator is not None and accelerator.simulated,
        )

    async def _register(self, chosen: list[Candidate]) -> dict[str, int]:
        """Read every weights file's digest before anything is measured, then write the candidates down."""
        digests = await self._digests(chosen)
        ids = {}
        for candidate in chosen:
            before = self._record.weights_digest(candidate.name)
            digest = digests.get(candidate.name)
            if before is not None and before != digest:
                raise InputError(
                    f"weights of {candidate.name} changed since the campaign began",
                    str(candidate.weights),
                    "Restore the file, or give the plan a new record.",
                )
            weights = candidate.weights
            entry = CandidateEntry(
                name=candidate.name,
                model=candidate.model,
                level=candidate.level,
                reference=candidate.reference,
                settings=candidate.settings(),
                weights_path=str(weights) if weights is not None else None,
                weights_bytes=weights.stat().st_size if weights is not None else None,
                weights_sha256=digest,
            )
            ids[candidate.name] = self._record.put_candidate(entry)
        return ids

    async def _digests(self, chosen: list[Candidate]) -> dict[str, str]:
        files = {c.name: c.weights for c in chosen if c.weights is not None}
        total, done = sum(path.stat().st_size for path in files.values()), 0
        loop = asyncio.get_running_loop()

        def count(size: int) -> None:
            nonlocal done
            done += size
            self._observer.digesting(total, done)

        def on_bytes(size: int) -> None:
            loop.call_soon_threadsafe(count, size)

        with ThreadPoolExecutor(os.cpu_count() or 1) as pool:
            jobs = {name: loop.run_in_executor(pool, weights_digest, path, on_bytes) for name, path in files.items()}
            return {name: await job for name, job in jobs.items()}

    def _pending(self, candidate: Candidate, candidate_id: int, exercises: frozenset[str]) -> list[tuple[Exercise, int]]:
        finished = self._record.finished(candidate_id)
        return [
            (exercise, sample)
            for sample in range(1, candidate.grading.samples + 1)
            for exercise in self._suite.exercises
            if exercise.id in exercises and (exercise.id, sample) not in finished
        ]

    async def _run_candidate(
        self, candidate: Candidate, candidate_id: int, pending: list[tuple[Exercise, int]], graders: ThreadPoolExecutor
    ) -> None:
        timed = self._record.speed_samples(candidate_id)
        if not pending and timed >= candidate.speed.requests:
            return
        async with self._serving(candidate, candidate_id) as session:
            client = HttpClient(
                session.url, reply_within_s=candidate.server.reply_within, model=candidate.server.served_model
            )
            try:
                if timed < candidate.speed.requests:
                    await self._speed_part(candidate, candidate_id, session, client, candidate.speed.requests - timed)
                if pending:
                    await self._answers_part(candidate, candidate_id, session, client, pending, graders)
            finally:
                await client.close()

    async def _speed_part(
        self, candidate: Candidate, candidate_id: int, session: _Session, client: HttpClient, requests: int
    ) -> None:
        self._observer.phase(candidate.name, "speed")
        prompts = [render_messages(exercise, candidate.prompting) for exercise in self._suite.exercises]
        table = candidate.speed
        settings = SpeedSettings(warm_up=table.warm_up, requests=requests, reply_tokens=table.reply_tokens)
        async for purpose, exchange in time_requests(
            client, prompts, sampling_of(candidate, candidate.sampling.seed), settings
        ):
            self._record.save_exchange(exchange_entry(exchange, purpose, candidate_id, session.id))
            if exchange.fault is not None:
                self._trouble(candidate, candidate_id, f"{candidate.name}: the speed part stopped: the server {exchange.fault}")
        self._save_memory(session, "speed")

    async def _answers_part(
        self,
        candidate: Candidate,
        candidate_id: int,
        session: _Session,
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
        self._save_memory(session, "answers")
        if session.process is not None and not session.process.is_alive:
            words = session.process.last_words()
            self._trouble(candidate, candidate_id, f"{candidate.name}: the server died half-way: {words}")

    @asynccontextmanager
    async def _serving(self, candidate: Candidate, candidate_id: int) -> AsyncIterator[_Session]:
        """A server that is ready; whatever happens inside, it and all it started is gone afterwards."""
        self._observer.phase(candidate.name, "load")
        table = candidate.server
        if table.url is not None:
            await wait_for_url(table.url, table.ready_paths, table.ready_within)
            session_id = await self._begin_session(candidate_id, (), table.url, None, None)
            yield _Session(id=session_id, url=table.url, process=None, sampler=None)
            self._record.end_session(session_id, "left running")
            return
        baseline = self._accelerator.used() if self._accelerator is not None else None
        process = start_server(self._launch(candidate))
        sampler = MemorySampler(process.pid, self._accelerator, candidate.memory.sample_every)
        try:
            load_s = await process.wait_ready()
            session_id = await self._begin_session(candidate_id, process.command, process.url, load_s, baseline)
            session = _Session(id=session_id, url=process.url, process=process, sampler=sampler)
            self._save_memory(session, "load")
            yield session
            self._record.end_session(session_id, "stopped" if process.is_alive else f"died: {process.last_words()}")
        finally:
            sampler.stop()
            await process.stop()

    async def _begin_session(
        self, candidate_id: int, command: tuple[str, ...], url: str, load_s: float | None, baseline: int | None
    ) -> int:
        entry = SessionEntry(
            candidate_id=candidate_id,
            command=command,
            url=url,
            description=await describe_server(url),
            load_s=load_s,
            baseline_bytes=baseline,
        )
        return self._record.begin_session(entry)

    def _launch(self, candidate: Candidate) -> Launch:
        table = candidate.server
        fields = {"context": str(table.context), "level": candidate.level}
        if candidate.weights is not None:
            fields["weights"] = str(candidate.weights)
        return Launch(
            command=table.command,
            fields=fields,
            ready_paths=table.ready_paths,
            ready_within_s=table.ready_within,
            log=self._plan.record.parent / "logs" / f"{candidate.name.replace('/', '_')}.log",
            folder=self._plan.folder,
            port=table.port,
        )

    def _save_memory(self, session: _Session, phase: str) -> None:
        seen = session.sampler.finish_phase(phase) if session.sampler is not None else None
        if seen is not None:
            entry = MemoryEntry(
                session_id=session.id,
                phase=phase,
                samples=len(seen.samples),
                host_peak_bytes=seen.host_peak_bytes,
                accelerator_peak_bytes=seen.accelerator_peak_bytes,
                peak_bytes=seen.peak_bytes,
                series=pack_series(seen.samples),
            )
            self._record.save_memory(entry)

    def _trouble(self, candidate: Candidate, candidate_id: int, text: str) -> None:
        self._tally.troubles.append(text)
        self._record.save_note(text, candidate_id)
        self._observer.trouble(text)


def _exercise_entry(exercise: Exercise) -> ExerciseEntry:
    spec = exercise.spec
    return ExerciseEntry(
        id=exercise.id,
        title=spec.title,
        kind=spec.kind,
        language=spec.language,
        difficulty=spec.difficulty,
        topics=spec.topics,
    )


def _toolchain_version(language: str) -> str:
    found: Toolchain | Missing = find_toolchain(language)
    return "missing" if isinstance(found, Missing) else found.version


def _first(group: BaseExceptionGroup) -> BaseException:
    """The first plain exception inside nested groups: one fault is reported, not the tree of tasks."""
    inner: BaseException = group
    while isinstance(inner, BaseExceptionGroup):
        inner = inner.exceptions[0]
    return inner
