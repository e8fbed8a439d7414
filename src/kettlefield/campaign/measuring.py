"""The speed and memory parts of one candidate: the procedures that its plan asks for, each put into the record."""

import random
import time
from collections.abc import Callable, Sequence

import msgspec

from kettlefield.campaign.prompts import render_text
from kettlefield.campaign.serving import Session
from kettlefield.core.errors import InputError
from kettlefield.measure.all_procedures import asked_for, in_order
from kettlefield.measure.fidelity import FixedText
from kettlefield.measure.latency import LATENCY, WARM_UP, warm_up
from kettlefield.measure.procedure import (
    BUDGET,
    DECIDED,
    DONE,
    MEMORY,
    PRECISE,
    SPEED,
    Bench,
    Budget,
    Ended,
    Procedure,
    Steps,
    Timed,
    Wish,
    berth_log,
    point_name,
)
from kettlefield.plan.candidates import Candidate
from kettlefield.record.entries import ExchangeEntry, ProcedureEntry
from kettlefield.server.exchange import Ask, count_prompt
from kettlefield.suite.typed_toml import nearest

ANSWERS = "answers"
PARTS = (SPEED, MEMORY, ANSWERS)
GOOD_ENDS = frozenset({DONE, PRECISE, BUDGET, DECIDED})
QUIET_S = 1.0  # looked back on before timing begins
RULER_CHARS = 1500  # of the prompt by which the filler's characters a token are found


class Job(msgspec.Struct, frozen=True, kw_only=True):
    """One candidate's measuring."""

    candidate: Candidate
    candidate_id: int
    session: Session
    asks: list[Ask]  # the suite's prompts
    texts: tuple[FixedText, ...]  # that are scored
    sampling: dict[str, object]
    trouble: Callable[[str], None]  # something could not be measured
    note: Callable[[str], None]  # something that a reader should know
    phase: Callable[[str], None]
    seen: Callable[[float | None, int | None], None]  # decode rate in tokens/s and memory in bytes, for who watches
    share: float  # of the timed requests that are to be in the record after this: below 1 while blocks are left
    is_decided: Callable[[tuple[int, ...], int], bool] | None = None  # as `Wish` has it


class Again(msgspec.Struct, frozen=True, kw_only=True):
    """What is to be measured again."""

    procedures: frozenset[str]  # with the purposes of their requests
    memory: bool
    parts: frozenset[str]


def again_of(words: Sequence[str]) -> Again:
    """What ``--again`` names.

    Parameters
    ----------
    words : sequence of str
        Parts and procedures.

    Raises
    ------
    InputError
        One of them is neither, or the answers part.
    """
    procedures: dict[str, Procedure] = {}
    for word in words:
        if word == ANSWERS:
            hint = "A fault of server or rig is asked again with --retry-faults; for other replies begin a new record."
            raise InputError("answers are not asked again: that would be choosing among results", "--again", hint)
        named = [one for one in in_order() if word == one.name or (word in PARTS and word in one.parts)]
        # what only watches memory belongs to both parts: its requests are timed
        named += [one for one in in_order() if word == SPEED and one not in named]
        if not named:
            known = [SPEED, MEMORY, *(one.name for one in in_order())]
            raise InputError(f'there is no part "{word}"', "--again", nearest(word, known))
        procedures |= {one.name: one for one in named}
    memory = MEMORY in words
    purposes = {purpose for one in procedures.values() for purpose in one.purposes}
    only_memory = any(one.parts == {MEMORY} for one in procedures.values())
    parts = {SPEED} | ({MEMORY} if memory or only_memory else set())
    return Again(procedures=frozenset({*procedures, *purposes}), memory=memory, parts=frozenset(parts))


def wish_of(candidate: Candidate) -> Wish:
    """What a plan asks of a candidate's measuring."""
    return Wish(
        speed=candidate.speed,
        memory=candidate.memory,
        fidelity=candidate.fidelity,
        window=candidate.server.context,
        seed=candidate.sampling.seed,
    )


def steps_left(candidate: Candidate, ended: dict[str, str], parts: frozenset[str]) -> tuple[str, ...]:
    """Names of the procedures that a plan asks for and the record does not hold yet.

    Parameters
    ----------
    candidate : Candidate
        As the plan has it.
    ended : dict
        Why each procedure that the record holds ended.
    parts : frozenset of str
        Some of `PARTS`.
    """
    return tuple(
        one.name for one in asked_for(wish_of(candidate)) if one.parts & parts and ended.get(one.name) not in GOOD_ENDS
    )


async def measure(job: Job, names: tuple[str, ...]) -> None:
    """Run procedures one after the other, each with its phase of memory; a fault ends its procedure alone.

    Parameters
    ----------
    job : Job
        Of a server that is ready and idle.
    names : tuple of str
        As `steps_left` gives them.
    """
    job.phase(WARM_UP)
    bench = Bench(
        client=job.session.client,
        sampling=dict(job.sampling),
        frame=lambda text: render_text(text, job.candidate.prompting),
        budget=Budget(job.candidate.speed.budget),
        is_alive=job.session.is_alive,
        disturbed=job.session.sampler.disturbed,
    )
    await _keep(job, None, warm_up(bench, job.asks, job.candidate.speed.warm_up))
    busy = job.session.sampler.disturbed(time.perf_counter() - QUIET_S, time.perf_counter())
    if busy is not None:
        job.note(f"{job.candidate.name}: the host is not quiet before timing begins: {busy}")
    bench = await _with_ruler(job, bench)
    points = job.session.record.timed_points(job.candidate_id, LATENCY)
    wish = msgspec.structs.replace(
        wish_of(job.candidate),
        asks=job.asks,
        texts=job.texts,
        scoring=job.session.scoring,
        share=job.share,
        is_decided=job.is_decided,
        timed={point_name(point): points.count(point) for point in points},
    )
    for procedure in asked_for(wish):
        if procedure.name in names and job.session.is_alive():
            job.phase(procedure.name)
            await _keep(job, procedure, procedure.run(bench, wish))
            if not procedure.phase_by:  # else each of its values was a phase
                job.session.save_phase(procedure.name)


async def _with_ruler(job: Job, bench: Bench) -> Bench:
    """The bench with the characters a token that the server counts for our filler, and the tokens round it.

    A long text and the wish alone are counted: what the template and the wish add is distinguished from the log, by
    whose entries alone a text is made longer.
    """
    # a character is a token at the worst: it must fit the smallest context too
    longest = min(RULER_CHARS, job.candidate.server.context * 3 // 4)
    texts = [berth_log(chars, random.Random(1)) for chars in (longest, 1)]
    counts, apart = [], False
    for text in texts:
        exchange = await bench.ask(text, 2)
        _save(job, Timed(purpose=WARM_UP, exchange=exchange))
        if not exchange.trace.prompt_tokens:
            exchange, apart = await count_prompt(bench.client, exchange.ask), True
            _save(job, Timed(purpose=WARM_UP, exchange=exchange))
        counts.append(exchange.trace.prompt_tokens or 0)
    if not all(counts):
        job.note(f"{job.candidate.name}: the server does not count prompt tokens; prompt lengths are guessed")
        return msgspec.structs.replace(bench, prompts_guessed=True)
    if apart:
        job.note(f"{job.candidate.name}: the server counts prompt tokens only without streaming; counted that way")
    chars, tokens = len(texts[0]) - len(texts[1]), counts[0] - counts[1]
    if chars <= 0 or tokens <= 0:  # a context so small that both are the same text
        return msgspec.structs.replace(bench, chars_per_token=len(texts[0]) / counts[0], counts_apart=apart)
    each = chars / tokens
    frame = counts[0] - len(texts[0]) / each
    return msgspec.structs.replace(bench, chars_per_token=each, frame_tokens=frame, counts_apart=apart)


async def _keep(job: Job, procedure: Procedure | None, steps: Steps) -> None:
    """Put what a procedure yields into the record; the warm-up belongs to none."""
    value: int | None = None
    async for item in steps:
        if isinstance(item, Timed):
            if procedure is not None and procedure.phase_by and item.point[procedure.phase_by] != value:
                # their replies come together at the end: what was seen until now is theirs
                value = item.point[procedure.phase_by]
                job.session.save_phase(procedure.name, concurrency=value)
            _save(job, item)
        elif procedure is None:
            if not item.facts.get("settled", True) and job.candidate.speed.warm_up:
                job.note(f"{job.candidate.name}: first-token times had not settled after the warm-up")
        elif not procedure.in_blocks or job.share >= 1 or item.why not in GOOD_ENDS:
            _end(job, item)


def _end(job: Job, item: Ended) -> None:
    entry = ProcedureEntry(
        candidate_id=job.candidate_id,
        session_id=job.session.id,
        name=item.name,
        why_ended=item.why,
        facts=item.facts,
    )
    job.session.record.save_procedure(entry)
    if item.why not in GOOD_ENDS:
        job.trouble(f"{job.candidate.name}: {item.name} stopped: the server {item.why}")


def _save(job: Job, item: Timed) -> None:
    exchange = item.exchange
    disturbed = job.session.sampler.disturbed(exchange.sent_s, exchange.sent_s + exchange.trace.finished_s)
    entry = ExchangeEntry(
        exchange=exchange,
        candidate_id=job.candidate_id,
        session_id=job.session.id,
        purpose=item.purpose,
        point=dict(item.point),
        disturbed=disturbed,
        scheduled_lag_s=item.scheduled_lag_s,
        memory_bytes=job.session.sampler.latest_bytes(),
    )
    job.session.record.save_exchange(entry)
    job.seen(entry.figures.decode_tps, entry.memory_bytes)
