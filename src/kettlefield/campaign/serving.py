"""One candidate's server for as long as it is needed: started, ready, watched, stopped, recorded; its key."""

import asyncio
import contextlib
import dataclasses
import os
import time
from collections.abc import AsyncIterator, Awaitable, Callable
from contextlib import asynccontextmanager
from pathlib import Path
from typing import Protocol

from kettlefield.core.errors import InputError, RigError
from kettlefield.measure.sampler import Phase, Sampler
from kettlefield.plan.plan import Candidate, Plan
from kettlefield.record.entries import MemoryEntry, SessionEntry
from kettlefield.record.packing import pack_series
from kettlefield.record.store import Record
from kettlefield.rig.accelerators import Accelerator
from kettlefield.rig.host import drop_pages
from kettlefield.server.exchange import ChatClient, Exchange
from kettlefield.server.http_client import HttpClient
from kettlefield.server.loaded import digest_programs, loaded_by
from kettlefield.server.process import Launch, describe_server, family_of, start_server, wait_for_url
from kettlefield.server.stdio import StdioServer
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


class Served(Protocol):
    """A server's process, whatever it speaks."""

    url: str
    command: tuple[str, ...]
    started_s: float

    @property
    def pid(self) -> int:
        """Process id of the first process."""
        ...

    @property
    def is_alive(self) -> bool:
        """Whether its first process still runs."""
        ...

    def how_it_ended(self) -> str:
        """Its exit status or signal, in words."""
        ...

    def last_words(self) -> str:
        """The end of its log in one line, safe to show."""
        ...

    async def wait_ready(self) -> float:
        """Seconds from start until it can be asked."""
        ...

    async def stop(self) -> None:
        """Stop it and everything it started."""
        ...


@dataclasses.dataclass(slots=True, kw_only=True)
class Session:
    """A server that is ready to be asked."""

    id: int
    url: str
    client: ChatClient
    record: Record
    process: Served | None  # none when attached by url
    sampler: Sampler
    phase: str = "load"  # what is running now, for memory that is kept before its phase has ended
    _memory_id: int | None = None  # the row of the running phase

    def is_alive(self) -> bool:
        """Whether it still runs, as far as we can know."""
        return self.process is None or self.process.is_alive

    def save_phase(self, phase: str | None = None, *, concurrency: int | None = None) -> None:
        """Put memory and energy since the last phase into the record; without a name, as the running phase."""
        self._save(self.sampler.finish_phase(phase or self.phase), concurrency)
        self._memory_id = None

    def save_peaks(self) -> None:
        """Put the peaks of the running phase into the record; its end takes their place."""
        self._save(self.sampler.phase_so_far(self.phase))

    def _save(self, seen: Phase | None, concurrency: int | None = None) -> None:
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
        self._memory_id = self.record.save_memory(entry, self._memory_id)

    async def save_loaded(self, apart_from: tuple[Path, ...]) -> None:
        """Put what the server's processes have loaded by now into the record."""
        if self.process is None or not self.process.is_alive:
            return
        pids = [member.pid for member in family_of(self.process.pid)]
        self.record.save_loaded(self.id, await asyncio.to_thread(loaded_by, pids, apart_from=apart_from))

    async def keep_peaks(self) -> None:
        """Put peaks into the record every few seconds, until this is cancelled."""
        while True:
            await asyncio.sleep(COMMIT_EVERY_S)
            with contextlib.suppress(RigError):  # whoever writes the next result says that it cannot be written
                self.save_peaks()

    def answered(self, exchange: Exchange) -> None:
        """Write down when the first token of the session's first reply came."""
        if self.process is not None and exchange.trace.stamps_s:
            first_s = exchange.sent_s + exchange.trace.stamps_s[0] - self.process.started_s
            self.record.save_first_answer(self.id, first_s)


@dataclasses.dataclass(frozen=True, slots=True, kw_only=True)
class Place:
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
    """A server that is ready; whatever happens inside, it and all it started is gone afterwards.

    Raises
    ------
    ServerError
        It would not start or was not ready in time.
    """
    table = place.candidate.server
    offset_s = time.time() - time.perf_counter()
    if table.url is not None:
        await wait_for_url(table.url, table.ready_paths, table.ready_within)
        entry = SessionEntry(
            candidate_id=place.candidate_id,
            command=(),
            url=table.url,
            description=await describe_server(table.url),
            load_s=None,
            baseline_bytes=None,
        )
        sampler = _sampler(place, None)
        client = _http(place.candidate, table.url)
        session = Session(
            id=place.record.begin_session(entry),
            url=table.url,
            client=client,
            record=place.record,
            process=None,
            sampler=sampler,
        )
        try:
            yield session
            place.record.end_session(session.id, "left running")
        finally:
            sampler.stop()
            await client.close()
        return
    baseline_bytes = place.accelerator.used() if place.accelerator is not None else None
    process = await _start(place.plan, place.candidate)
    sampler = _sampler(place, process.pid)
    try:
        load_s = await process.wait_ready()
        load_disturbed = sampler.disturbed(process.started_s, process.started_s + load_s)
        entry = SessionEntry(
            load_disturbed=load_disturbed,
            candidate_id=place.candidate_id,
            command=process.command,
            url=process.url,
            description=process.description if isinstance(process, StdioServer) else await describe_server(process.url),
            load_s=load_s,
            baseline_bytes=baseline_bytes,
            load_kind=load_kind,
            program=await asyncio.to_thread(
                digest_programs, process.command, place.plan.folder, apart_from=place.weights_files
            ),
        )
        session_id = place.record.begin_session(entry)
        talker: StdioServer | HttpClient = (
            process if isinstance(process, StdioServer) else _http(place.candidate, process.url)
        )
        session = Session(
            id=session_id, url=process.url, client=talker, record=place.record, process=process, sampler=sampler
        )
        session.save_phase("load")
        keeping = asyncio.create_task(session.keep_peaks())
        how = "broken off"
        try:
            yield session
            how = "stopped"
            if process.is_alive:
                session.phase = "idle"
                if load_kind != "cold":
                    await session.save_loaded(place.weights_files)  # libraries may come with the first request
                await asyncio.sleep(place.candidate.memory.idle_for)
        finally:
            keeping.cancel()
            session.save_phase()
            died = "" if process.is_alive else f"{process.how_it_ended()}: {process.last_words()}"
            place.record.end_session(session_id, died or how)
            await talker.close()
        _note_clock_step(place, offset_s)
    finally:
        sampler.stop()
        await process.stop()


@asynccontextmanager
async def speaking(plan: Plan, candidate: Candidate) -> AsyncIterator[ChatClient]:
    """A server to talk with that is not a candidate: nothing of it is measured or written down.

    Raises
    ------
    ServerError
        It would not start or was not ready in time.
    """
    table = candidate.server
    if table.url is not None:
        await wait_for_url(table.url, table.ready_paths, table.ready_within)
        client = _http(candidate, table.url)
        try:
            yield client
        finally:
            await client.close()
        return
    process = await _start(plan, candidate)
    try:
        await process.wait_ready()
        talker = process if isinstance(process, StdioServer) else _http(candidate, process.url)
        try:
            yield talker
        finally:
            await talker.close()
    finally:
        await process.stop()


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


def _sampler(place: Place, pid: int | None) -> Sampler:
    every_s, above = place.candidate.memory.sample_every, place.plan.rig.disturbed_above
    return Sampler(pid, place.accelerator, every_s, disturbed_above=above)


def _note_clock_step(place: Place, offset_s: float) -> None:
    moved_s = time.time() - time.perf_counter() - offset_s
    if abs(moved_s) > CLOCK_STEP_S:
        text = f"{place.candidate.name}: the wall clock was set by {moved_s:+.0f} s; dates are off, durations are not"
        place.record.save_note(text, place.candidate_id)


async def _start(plan: Plan, candidate: Candidate) -> Served:
    launch = _launch(plan, candidate)
    if candidate.server.protocol == "stdio":
        server = StdioServer(launch)
        server.reply_within_s = candidate.server.reply_within
        try:
            await server.start()
        except BaseException:
            with contextlib.suppress(Exception):
                await server.stop()
            raise
        return server
    return start_server(launch)


def _http(candidate: Candidate, url: str) -> HttpClient:
    table = candidate.server
    return HttpClient(
        url, reply_within_s=table.reply_within, model=table.served_model, headers=key_headers(table.key_from)
    )


def _launch(plan: Plan, candidate: Candidate) -> Launch:
    table = candidate.server
    fields = {
        "context": str(table.context),
        "level": candidate.level,
        "kv_bits": str(table.kv_bits),
        "concurrency": str(table.concurrency),
    }
    if candidate.weights is not None:
        fields["weights"] = str(candidate.weights)
    return Launch(
        command=table.command,
        fields=fields,
        ready_paths=table.ready_paths,
        ready_within_s=table.ready_within,
        log=plan.record.parent / "logs" / f"{candidate.name.replace('/', '_')}.log",
        folder=plan.folder,
        port=table.port,
    )
