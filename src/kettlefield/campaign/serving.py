"""One candidate's server for as long as it is needed: started, ready, sampled, stopped, written down."""

import dataclasses
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager

from kettlefield.campaign.plan import Candidate, Plan
from kettlefield.instrument.memory import MemorySampler
from kettlefield.record.entries import MemoryEntry, SessionEntry
from kettlefield.record.packing import pack_series
from kettlefield.record.store import Record
from kettlefield.rig.accelerators import Accelerator
from kettlefield.server.process import Launch, ServerProcess, describe_server, start_server, wait_for_url


@dataclasses.dataclass(frozen=True, slots=True, kw_only=True)
class Session:
    """A server that is ready to be asked."""

    id: int
    url: str
    record: Record
    process: ServerProcess | None  # none when attached by url
    sampler: MemorySampler | None

    def is_alive(self) -> bool:
        """Whether it still runs, as far as we can know."""
        return self.process is None or self.process.is_alive

    def save_memory(self, phase: str) -> None:
        """Put the memory since the last phase into the record."""
        seen = self.sampler.finish_phase(phase) if self.sampler is not None else None
        if seen is not None:
            entry = MemoryEntry(
                session_id=self.id,
                phase=phase,
                samples=len(seen.samples),
                host_peak_bytes=seen.host_peak_bytes,
                accelerator_peak_bytes=seen.accelerator_peak_bytes,
                peak_bytes=seen.peak_bytes,
                series=pack_series(seen.samples),
            )
            self.record.save_memory(entry)


@asynccontextmanager
async def serving(
    plan: Plan, candidate: Candidate, candidate_id: int, record: Record, accelerator: Accelerator | None
) -> AsyncIterator[Session]:
    """A server that is ready; whatever happens inside, it and all it started is gone afterwards.

    Raises
    ------
    ServerError
        It would not start or was not ready in time.
    """
    table = candidate.server
    if table.url is not None:
        await wait_for_url(table.url, table.ready_paths, table.ready_within)
        entry = await _session_entry(candidate_id, (), table.url, load_s=None, baseline_bytes=None)
        session = Session(id=record.begin_session(entry), url=table.url, record=record, process=None, sampler=None)
        yield session
        record.end_session(session.id, "left running")
        return
    baseline_bytes = accelerator.used() if accelerator is not None else None
    process = start_server(_launch(plan, candidate))
    sampler = MemorySampler(process.pid, accelerator, candidate.memory.sample_every)
    try:
        load_s = await process.wait_ready()
        entry = await _session_entry(
            candidate_id, process.command, process.url, load_s=load_s, baseline_bytes=baseline_bytes
        )
        session_id = record.begin_session(entry)
        session = Session(id=session_id, url=process.url, record=record, process=process, sampler=sampler)
        session.save_memory("load")
        yield session
        record.end_session(session_id, "stopped" if process.is_alive else f"died: {process.last_words()}")
    finally:
        sampler.stop()
        await process.stop()


async def _session_entry(
    candidate_id: int, command: tuple[str, ...], url: str, *, load_s: float | None, baseline_bytes: int | None
) -> SessionEntry:
    return SessionEntry(
        candidate_id=candidate_id,
        command=command,
        url=url,
        description=await describe_server(url),
        load_s=load_s,
        baseline_bytes=baseline_bytes,
    )


def _launch(plan: Plan, candidate: Candidate) -> Launch:
    table = candidate.server
    fields = {
        "context": str(table.context),
        "level": candidate.level,
        "cache_bits": str(table.cache_bits),
        "slots": str(table.slots),
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
