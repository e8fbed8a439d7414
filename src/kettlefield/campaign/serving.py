"""One candidate's server for as long as it is needed: started, ready, watched, stopped, recorded; its key."""

import asyncio
import contextlib
import os
import time
from collections.abc import AsyncIterator, Awaitable, Callable
from contextlib import asynccontextmanager
from pathlib import Path

import msgspec

from kettlefield.campaign.metrics_watch import MetricsWatch
from kettlefield.core.errors import InputError, RigError
from kettlefield.measure.sampler import Phase, Sampler
from kettlefield.plan.candidates import Candidate
from kettlefield.plan.plan import Plan
from kettlefield.record.entries import MemoryEntry, SessionEntry
from kettlefield.record.packing import pack_series
from kettlefield.record.store import Record
from kettlefield.rig.accelerators import Accelerator
from kettlefield.rig.host import drop_pages
from kettlefield.server.backend import BACKENDS, Server, Talk
from kettlefield.server.exchange import ChatClient, Exchange
from kettlefield.server.loaded import digest_programs, loaded_by
from kettlefield.server.process import Launch, family_of
from kettlefield.server.prompt_scores import Telling
from kettlefield.weights.formats import files_of


def key_headers(key_from: str | None) -> dict[str, str]:
    """The header that carries a key, as RFC 6750 has it; empty where none is wanted.

    Parameters
    ----------
    key_from : str or None
        Name of the environment variable.

    Raises
    ------
    InputError
        It is not set, or holds what no header can.
    """
    if key_from is None:
        return {}
    key = os.environ.get(key_from, "")
    if not key or not key.isascii() or not key.isprintable():
        what = "holds no key" if key else "is not set"
        raise InputError(f"environment variable {key_from} {what}", "[server] key_from", f"export {key_from}=...")
    return {"Authorization": f"Bearer {key}"}


COMMIT_EVERY_S = 2.0  # peaks of memory are in the record within seconds, however the campaign ends
CLOCK_STEP_S = 1.0  # the wall clock moved by more than this against the monotonic one: dates are off, durations not

FirstWords = Callable[[ChatClient], Awaitable[Exchange]]


class Session(msgspec.Struct, kw_only=True):
    """A server that is ready to be asked."""

    id: int
    server: Server
    record: Record
    sampler: Sampler
    phase: str = "load"  # what is running now, for memory that is kept before its phase has ended
    scoring: Telling | None = None  # how it tells log-probabilities; none: not found out
    _memory_id: int | None = None  # the row of the running phase

    @property
    def client(self) -> ChatClient:
        """What asks it."""
        return self.server.client

    def is_alive(self) -> bool:
        """Whether it still runs, as far as we can know."""
        return self.server.is_alive

    def save_phase(self, phase: str | None = None, *, concurrency: int | None = None) -> None:
        """Put memory and energy since the last phase into the record; without a name, as the running phase."""
        self._save(self.sampler.finish_phase(phase or self.phase), concurrency)
        self._memory_id = None

    def save_peaks(self) -> None:
        """Put the peaks of the running phase into the record; its end takes their place."""
        self._save(self.sampler.phase_so_far(self.phase), may_wait=False)

    def _save(self, seen: Phase | None, concurrency: int | None = None, *, may_wait: bool = True) -> None:
        if seen is None:
            return
        entry = MemoryEntry(
            session_id=self.id,
            phase=seen.phase,
            concurrency=concurrency,
            samples=len(seen.samples),
            host_peak_bytes=seen.host_peak_bytes,
            accelerator_peak_bytes=seen.accelerator_peak_bytes,
            mapped_peak_bytes=seen.mapped_peak_bytes,
            peak_bytes=seen.peak_bytes,
            end_bytes=seen.end_bytes,
            energy_j=seen.energy_j,
            energy_from=seen.energy_from,
            series=pack_series(seen.samples),
        )
        self._memory_id = self.record.save_memory(entry, self._memory_id, may_wait=may_wait)

    async def save_loaded(self, apart_from: tuple[Path, ...]) -> None:
        """Put what the server's processes have loaded by now into the record."""
        if self.server.pid is None or not self.server.is_alive:
            return
        pids = [member.pid for member in family_of(self.server.pid)]
        self.record.save_loaded(self.id, await asyncio.to_thread(loaded_by, pids, apart_from=apart_from))

    async def keep_peaks(self) -> None:
        """Put peaks into the record every few seconds, until this is cancelled."""
        while True:
            await asyncio.sleep(COMMIT_EVERY_S)
            with contextlib.suppress(RigError):  # whoever writes the next result says that it cannot be written
                self.save_peaks()

    def answered(self, exchange: Exchange) -> None:
        """Write down when the first token of the session's first reply came."""
        if self.server.pid is not None and exchange.trace.stamps_s:
            first_s = exchange.sent_s + exchange.trace.stamps_s[0] - self.server.started_s
            self.record.save_first_answer(self.id, first_s)


class Place(msgspec.Struct, frozen=True, kw_only=True):
    """Where a session is kept."""

    plan: Plan
    candidate: Candidate
    candidate_id: int
    record: Record
    accelerator: Accelerator | None

    @property
    def weights_files(self) -> tuple[Path, ...]:
        """The files of the candidate's weights, which have digests of their own."""
        return files_of(self.candidate.weights) if self.candidate.weights is not None else ()


@asynccontextmanager
async def serving(place: Place, *, load_kind: str = "as found") -> AsyncIterator[Session]:
    """A server that is ready, its memory watched; whatever happens inside, it and all it started is gone afterwards.

    Raises
    ------
    ServerError
        It would not start or was not ready in time.
    """
    offset_s = time.time() - time.perf_counter()
    used_before = place.accelerator.used() if place.accelerator is not None else None
    async with opened(place.plan, place.candidate) as server:
        sampler = _sampler(place, server.pid)
        try:
            session = await _begin(place, server, sampler, load_kind, used_before)
            if server.pid is None:
                async with _own_words(place, session):
                    yield session
                place.record.end_session(session.id, "left running")
                return
            session.save_phase("load")
            keeping = asyncio.create_task(session.keep_peaks())
            how = "broken off"
            try:
                async with _own_words(place, session):
                    yield session
                how = "stopped"
                if server.is_alive:
                    session.phase = "idle"
                    if load_kind != "cold":
                        await session.save_loaded(place.weights_files)  # libraries may come with the first request
                    await asyncio.sleep(place.candidate.memory.idle_for)
            finally:
                keeping.cancel()
                session.save_phase()
                died = "" if server.is_alive else f"{server.how_it_ended()}: {server.last_words()}"
                place.record.end_session(session.id, died or how)
            _note_clock_step(place, offset_s)
        finally:
            sampler.stop()


async def _begin(place: Place, server: Server, sampler: Sampler, load_kind: str, used_before: int | None) -> Session:
    """Wait until a server is ready, and write its session down."""
    load_s = await server.ready()
    # looked at now: what we do ourselves next is none of the load's business
    disturbed = None if load_s is None else sampler.disturbed(server.started_s, server.started_s + load_s)
    started = server.pid is not None
    program = None
    if started:
        apart_from = place.weights_files
        program = await asyncio.to_thread(digest_programs, server.command, place.plan.folder, apart_from=apart_from)
    entry = SessionEntry(
        candidate_id=place.candidate_id,
        command=server.command,
        url=server.url,
        description=await server.describe(),
        load_s=load_s,
        load_kind=load_kind if started else "as found",
        load_disturbed=disturbed,
        baseline_bytes=used_before if started else None,
        program=program,
    )
    return Session(id=place.record.begin_session(entry), server=server, record=place.record, sampler=sampler)


@asynccontextmanager
async def opened(plan: Plan, candidate: Candidate) -> AsyncIterator[Server]:
    """A candidate's server, started or attached to as its plan says; it may not be ready yet."""
    table = candidate.server
    talk = Talk(reply_within_s=table.reply_within, served_model=table.served_model, headers=key_headers(table.key_from))
    async with BACKENDS[table.protocol].open(_launch(plan, candidate), talk, table.url) as server:
        yield server


@asynccontextmanager
async def speaking(plan: Plan, candidate: Candidate) -> AsyncIterator[ChatClient]:
    """A server to talk with that is not a candidate: nothing of it is measured or written down.

    Raises
    ------
    ServerError
        It would not start or was not ready in time.
    """
    async with opened(plan, candidate) as server:
        await server.ready()
        yield server.client


async def load_from_disk(place: Place, first_words: FirstWords) -> None:
    """Start the server once with its weights out of the page cache, put one short request, stop it.

    Raises
    ------
    ServerError
        It would not start or was not ready in time.
    """
    drop_pages(place.weights_files)
    async with serving(place, load_kind="cold") as session:
        session.answered(await first_words(session.client))


@asynccontextmanager
async def _own_words(place: Place, session: Session) -> AsyncIterator[None]:
    """What the server says of itself, watched where the plan says where it says it."""
    table = place.candidate.server
    if not table.metrics_path:
        yield
        return
    url = f"{session.server.url.rstrip('/')}/{table.metrics_path.lstrip('/')}"
    watch = MetricsWatch(url=url, headers=key_headers(table.key_from), phase=lambda: session.phase)
    async with watch.watching():
        yield
    if watch.values:
        place.record.save_server_metrics(session.id, watch.facts)
    else:
        text = f"{place.candidate.name}: what {table.metrics_path} says {watch.fault or 'was never looked at'}"
        place.record.save_note(text, place.candidate_id)


def _sampler(place: Place, pid: int | None) -> Sampler:
    every_s, above = place.candidate.memory.sample_every, place.plan.rig.disturbed_above
    return Sampler(pid, place.accelerator, every_s, disturbed_above=above)


def _note_clock_step(place: Place, offset_s: float) -> None:
    moved_s = time.time() - time.perf_counter() - offset_s
    if abs(moved_s) > CLOCK_STEP_S:
        text = f"{place.candidate.name}: the wall clock was set by {moved_s:+.0f} s; dates are off, durations are not"
        place.record.save_note(text, place.candidate_id)


def _launch(plan: Plan, candidate: Candidate) -> Launch:
    table = candidate.server
    fields = {
        "context": str(table.context),
        "level": candidate.level,
        "kv_bits": str(table.kv_bits),
        "concurrency": str(table.concurrency),
        "rig": candidate.rig,
    }
    if candidate.weights is not None:
        fields["weights"] = str(candidate.weights)
    return Launch(
        command=table.command,
        fields=fields,
        ready_paths=table.ready_paths,
        ready_within_s=table.ready_within,
        log=plan.logs / f"{candidate.name.replace('/', '_')}.log",
        folder=plan.folder,
        port=table.port,
    )
