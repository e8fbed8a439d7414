"""Candidates written down before they start: their weights' digests, what their headers say, what memory they need."""

import asyncio
import os
from collections.abc import Mapping
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import msgspec

from kettlefield.campaign.learning import known_overhead
from kettlefield.campaign.setup import Observer
from kettlefield.core.errors import InputError
from kettlefield.core.sizing.requirements import decode_ceiling_tps, kv_bytes_per_token, memory_need
from kettlefield.core.units import format_bytes
from kettlefield.plan.candidates import Candidate
from kettlefield.record.entries import CandidateEntry
from kettlefield.record.store import Record
from kettlefield.rig.accelerators import Accelerator, find_accelerators
from kettlefield.rig.survey import own_bandwidth
from kettlefield.weights.digests import digest_of_files, weights_digest
from kettlefield.weights.formats import files_of, read_facts


class Registered(msgspec.Struct, frozen=True, kw_only=True):
    """A candidate that is written down."""

    id: int
    predicted_bytes: int | None  # peak memory that its header predicts


async def register_candidates(
    record: Record,
    chosen: list[Candidate],
    accelerator: Accelerator | None,
    observer: Observer,
    rig_id: int | None = None,
) -> dict[str, Registered]:
    """Read every weights file's header and digest before anything is measured, then write the candidates down.

    Returns
    -------
    dict
        Candidate name -> its id in the record, and what its header predicts.

    Raises
    ------
    InputError
        Weights changed since the campaign began, or cannot be read.
    """
    files = {c.name: files_of(c.weights) for c in chosen if c.weights is not None}
    digests = await _digests(files, observer)
    bandwidth = known_bandwidth(accelerator)
    registered, known = {}, record.weights_digests()
    for candidate in chosen:
        before = known.get(candidate.name)
        digest = digests.get(candidate.name)
        if before is not None and before != digest:
            raise InputError(
                f"weights of {candidate.name} changed since the campaign began",
                str(candidate.weights),
                "Restore the file, or give the plan a new record.",
            )
        _check_same_everywhere(known, candidate, digest)
        facts = {**weights_facts(candidate, bandwidth), "files": _file_facts(files.get(candidate.name, ()))}
        entry = CandidateEntry(
            name=candidate.name,
            model=candidate.family,
            level=candidate.level,
            reference=candidate.reference,
            baseline=candidate.baseline,
            settings=candidate.settings(),
            weights_path=str(candidate.weights) if candidate.weights is not None else None,
            weights_bytes=sum(path.stat().st_size for path in files[candidate.name]) if digest is not None else None,
            weights_sha256=digest,
            weights_facts=facts,
            rig_id=rig_id,
        )
        predicted = facts.get("predicted_bytes")
        registered[candidate.name] = Registered(
            id=record.put_candidate(entry), predicted_bytes=predicted if isinstance(predicted, int) else None
        )
    return registered


def _check_same_everywhere(known: Mapping[str, str | None], candidate: Candidate, digest: str | None) -> None:
    """Refuse weights of one level that are another file than on another rig: nothing could be compared."""
    if not candidate.rig or digest is None:
        return
    for name, other in known.items():
        of_same = name.startswith(candidate.name.removesuffix(candidate.rig))
        if of_same and other is not None and other != digest:
            raise InputError(
                f"weights of {candidate.name} have SHA-256 {digest[:12]}, those of {name} {other[:12]}",
                str(candidate.weights),
                "Copy the same file to both rigs, or give the levels different names.",
            )


def _file_facts(files: tuple[Path, ...]) -> list[dict[str, object]]:
    """Each file of the weights with its own digest, which is known by now."""
    return [{"name": path.name, "bytes": path.stat().st_size, "sha256": weights_digest(path)} for path in files]


def budget_warning(name: str, predicted_bytes: int | None, budget_bytes: int | None) -> str | None:
    """What to say when a candidate's header predicts more memory than the plan's budget; it is run all the same."""
    if budget_bytes is None or predicted_bytes is None or predicted_bytes <= budget_bytes:
        return None
    need, budget = format_bytes(predicted_bytes), format_bytes(budget_bytes)
    return f"{name}: by its header it needs {need}, memory_budget is {budget}"


def weights_facts(candidate: Candidate, bandwidth_bytes_s: float | None) -> dict[str, object]:
    """What the header says and predicts; a file of a format that we do not read is served all the same."""
    if candidate.weights is None:
        return {}
    try:
        facts = read_facts(candidate.weights)
    except InputError as err:
        return {"unread": str(err)}
    shape, server = facts.shape(), candidate.server
    overhead, source = _overhead(candidate)
    need = memory_need(
        shape,
        server.context,
        kv_bits=server.kv_bits,
        parallel=server.concurrency,
        overhead_bytes=overhead,
    )
    return {
        "architecture": facts.architecture,
        "parameters": facts.parameters,
        "bits_per_weight": facts.bits_per_weight,
        "level": facts.level,
        "licence": facts.licence.spdx,
        "style": facts.style,
        "kv_bytes_per_token": kv_bytes_per_token(shape, kv_bits=server.kv_bits) if facts.kv_heads else None,
        "predicted_bytes": need.total_bytes if facts.kv_heads else None,
        "overhead_bytes": need.overhead_bytes,
        "overhead_from": source,
        "decode_ceiling_tps": decode_ceiling_tps(shape, bandwidth_bytes_s, 0) if bandwidth_bytes_s else None,
        "remarks": list(facts.remarks),
    }


def _overhead(candidate: Candidate) -> tuple[int | None, str]:
    """What the server takes beside weights and KV cache, and where that is known from."""
    if candidate.memory.overhead is not None:
        return candidate.memory.overhead, "the plan"
    learned = known_overhead(candidate.server.command)
    if learned is None:
        return None, "a rule of thumb"
    return learned.at_context(candidate.server.context), f"learned from {learned.learned_from}"


def predict_again(
    record: Record, candidate: Candidate, known: Registered, accelerator: Accelerator | None
) -> Registered:
    """The candidate with its prediction made once more, before its first start: the server may be known by now."""
    if candidate.weights is None or record.peak_bytes(known.id) is not None:
        return known
    facts = weights_facts(candidate, known_bandwidth(accelerator))
    record.update_facts(known.id, facts)
    predicted = facts.get("predicted_bytes")
    return Registered(id=known.id, predicted_bytes=predicted if isinstance(predicted, int) else None)


def known_bandwidth(accelerator: Accelerator | None) -> float | None:
    """The accelerator's bandwidth where it is known; the host's, measured, where there is no accelerator."""
    if accelerator is not None:
        return accelerator.bandwidth_bytes_s
    return None if find_accelerators() else own_bandwidth()


async def _digests(files: dict[str, tuple[Path, ...]], observer: Observer) -> dict[str, str]:
    total, done = sum(path.stat().st_size for paths in files.values() for path in paths), 0
    loop = asyncio.get_running_loop()

    def count(size: int) -> None:
        nonlocal done
        done += size
        observer.digesting(total, done)

    def on_bytes(size: int) -> None:
        loop.call_soon_threadsafe(count, size)

    def digest(paths: tuple[Path, ...]) -> str:
        return digest_of_files(paths, on_bytes)

    with ThreadPoolExecutor(os.cpu_count() or 1) as pool:
        jobs = {name: loop.run_in_executor(pool, digest, paths) for name, paths in files.items()}
        return {name: await job for name, job in jobs.items()}
