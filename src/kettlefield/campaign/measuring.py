"""The speed and memory parts of one candidate: the procedures that its plan asks for, each put into the record."""

import dataclasses
import random
import time
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass

from kettlefield.campaign.prompts import render_text
from kettlefield.campaign.serving import Session
from kettlefield.campaign.trial_runner import exchange_entry
from kettlefield.core.errors import InputError
from kettlefield.measure.closed_loop import CLOSED_LOOP, time_closed_loop
from kettlefield.measure.depth import DEPTH, PAST_WINDOW, SYSTEM, time_depths, time_system_prompt, try_past_window
from kettlefield.measure.latency import LATENCY, WARM_UP, Grid, point_name, time_latency, warm_up
from kettlefield.measure.leak import LEAK, watch_for_leak
from kettlefield.measure.open_loop import OPEN_LOOP, Limits, Search, seek_capacity
from kettlefield.measure.procedure import BUDGET, DONE, PRECISE, Bench, Budget, Ended, Procedure, Timed, berth_log
from kettlefield.measure.prompt_cache import PROMPT_CACHE, time_cached
from kettlefield.plan.plan import Candidate
from kettlefield.record.entries import ProcedureEntry
from kettlefield.server.exchange import Ask, count_prompt
from kettlefield.suite.typed_toml import nearest

SPEED, MEMORY, ANSWERS = "speed", "memory", "answers"
PARTS = (SPEED, MEMORY, ANSWERS)
GOOD_ENDS = frozenset({DONE, PRECISE, BUDGET})
QUIET_S = 1.0  # looked back on before timing begins
RULER_CHARS = 1500  # of the prompt by which the filler's characters a token are found


@dataclass(frozen=True, slots=True, kw_only=True)
class Job:
    """One candidate's measuring."""

    candidate: Candidate
    candidate_id: int
    session: Session
    asks: list[Ask]  # the suite's prompts
    sampling: dict[str, object]
    trouble: Callable[[str], None]  # something could not be measured
    note: Callable[[str], None]  # something that a reader should know
    phase: Callable[[str], None]
    seen: Callable[[float | None, int | None], None]  # decode rate in tokens/s and memory in bytes, for who watches
    share: float  # of the timed requests that are to be in the record after this: below 1 while blocks are left


# the procedures of each part, and the purposes that their requests are kept under
_OF_SPEED = (LATENCY, DEPTH, SYSTEM, PROMPT_CACHE, CLOSED_LOOP, OPEN_LOOP, LEAK, PAST_WINDOW)
_PURPOSES = {PROMPT_CACHE: ("cached", "uncached")}
_OF_MEMORY = (DEPTH, CLOSED_LOOP, LEAK)


@dataclass(frozen=True, slots=True, kw_only=True)
class Again:
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
    procedures: set[str] = set()
    for word in words:
        if word == ANSWERS:
            hint = "A fault of server or rig is asked again with --retry-faults; for other replies begin a new record."
            raise InputError("answers are not asked again: that would be choosing among results", "--again", hint)
        named = {SPEED: _OF_SPEED, MEMORY: _OF_MEMORY}.get(word) or ((word,) if word in _OF_SPEED else None)
        if named is None:
            raise InputError(f'there is no part "{word}"', "--again", nearest(word, [SPEED, MEMORY, *_OF_SPEED]))
        procedures.update(named)
    memory = MEMORY in words
    purposes = {purpose for name in procedures for purpose in _PURPOSES.get(name, ())}
    parts = {SPEED} | ({MEMORY} if memory or LEAK in procedures else set())
    return Again(procedures=frozenset(procedures | purposes), memory=memory, parts=frozenset(parts))


@dataclass(frozen=True, slots=True, kw_only=True)
class _Step:
    name: str
    parts: frozenset[str]
    run: Callable[[Bench], Procedure]


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
        name for name, of in _asked_for(candidate) if of & parts and not (name in ended and ended[name] in GOOD_ENDS)
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
    )
    await _keep(job, warm_up(bench, job.asks, job.candidate.speed.warm_up))
    busy = job.session.sampler.disturbed(time.perf_counter() - QUIET_S, time.perf_counter())
    if busy is not None:
        job.note(f"{job.candidate.name}: the host is not quiet before timing begins: {busy}")
    bench = await _with_ruler(job, bench)
    for step in _steps(job):
        if step.name in names and job.session.is_alive():
            job.phase(step.name)
            await _keep(job, step.run(bench))
            if step.name != CLOSED_LOOP:  # each count of clients was a phase of its own
                job.session.save_phase(step.name)


def _asked_for(candidate: Candidate) -> Iterator[tuple[str, frozenset[str]]]:
    speed = candidate.speed
    alone, both = frozenset({SPEED}), frozenset({SPEED, MEMORY})
    if speed.requests:
        yield LATENCY, alone
    if speed.depth.tokens:
        yield DEPTH, both
    if speed.depth.system_tokens:
        yield SYSTEM, alone
    if speed.prompt_cache:
        yield PROMPT_CACHE, alone
    if speed.closed_loop.concurrency:
        yield CLOSED_LOOP, both
    if speed.open_loop.ttft is not None:
        yield OPEN_LOOP, alone
    if candidate.memory.leak_requests:
        yield LEAK, frozenset({MEMORY})
    if speed.depth.tokens and speed.depth.past_window:  # last: it may bring the server down
        yield PAST_WINDOW, alone


def _steps(job: Job) -> Iterator[_Step]:
    speed, window = job.candidate.speed, job.candidate.server.context
    reply_tokens = min(speed.reply_lengths)
    points = job.session.record.timed_points(job.candidate_id, LATENCY)
    timed = {point_name(point): points.count(point) for point in points}
    grid = Grid(
        warm_up=speed.warm_up,
        requests=round(speed.requests * job.share),
        prompt_tokens=speed.prompt_tokens,
        reply_tokens=speed.reply_lengths,
        precision=speed.precision,
    )
    runs: dict[str, Callable[[Bench], Procedure]] = {
        LATENCY: lambda bench: time_latency(bench, job.asks, grid, timed),
        DEPTH: lambda bench: time_depths(
            bench, speed.depth.tokens, window=window, repeats=speed.depth.repeats, reply_tokens=reply_tokens
        ),
        SYSTEM: lambda bench: time_system_prompt(
            bench, system_tokens=speed.depth.system_tokens, repeats=speed.depth.repeats, reply_tokens=reply_tokens
        ),
        PROMPT_CACHE: lambda bench: time_cached(bench, speed.prompt_cache, window=window, reply_tokens=reply_tokens),
        CLOSED_LOOP: lambda bench: time_closed_loop(
            bench, speed.closed_loop.concurrency, requests=speed.closed_loop.requests, reply_tokens=reply_tokens
        ),
        OPEN_LOOP: lambda bench: _arrivals(job, bench, reply_tokens),
        LEAK: lambda bench: watch_for_leak(bench, job.candidate.memory.leak_requests),
        PAST_WINDOW: lambda bench: try_past_window(bench, window=window),
    }
    for name, parts in _asked_for(job.candidate):
        yield _Step(name=name, parts=parts, run=runs[name])


def _arrivals(job: Job, bench: Bench, reply_tokens: int) -> Procedure:
    table = job.candidate.speed.open_loop
    assert table.ttft is not None  # noqa: S101 - the step is not asked for without it
    limits = Limits(ttft_s=table.ttft, decode_tps=table.decode)
    # begin where one request at a time would end
    search = Search(
        first_rate_rps=1 / table.ttft,
        lasting_s=table.lasting,
        tries=table.tries,
        reply_tokens=reply_tokens,
        seed=job.candidate.sampling.seed,
    )
    return seek_capacity(bench, limits, search)


async def _with_ruler(job: Job, bench: Bench) -> Bench:
    """The bench with the characters a token that the server counts for our filler, and the tokens round it.

    Two lengths are counted, so that the frame that the prompt's template adds is distinguished from the text.
    """
    # a character is a token at the worst: it must fit the smallest context too
    longest = min(RULER_CHARS, job.candidate.server.context * 3 // 4)
    texts = [berth_log(chars, random.Random(1)) for chars in (longest, longest // 4)]
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
        return dataclasses.replace(bench, prompts_guessed=True)
    if apart:
        job.note(f"{job.candidate.name}: the server counts prompt tokens only without streaming; counted that way")
    chars, tokens = len(texts[0]) - len(texts[1]), counts[0] - counts[1]
    if chars <= 0 or tokens <= 0:  # a context so small that both are the same text
        return dataclasses.replace(bench, chars_per_token=len(texts[0]) / counts[0], counts_apart=apart)
    each = chars / tokens
    frame = counts[0] - len(texts[0]) / each
    return dataclasses.replace(bench, chars_per_token=each, frame_tokens=frame, counts_apart=apart)


async def _keep(job: Job, procedure: Procedure) -> None:
    counted: int | None = None
    async for item in procedure:
        if isinstance(item, Timed):
            if item.purpose == CLOSED_LOOP and item.point["concurrency"] != counted:
                # their replies come together at the end: what was seen until now is theirs
                counted = item.point["concurrency"]
                job.session.save_phase(CLOSED_LOOP, concurrency=counted)
            _save(job, item)
        elif item.name == WARM_UP:
            if not item.facts.get("settled", True) and job.candidate.speed.warm_up:
                job.note(f"{job.candidate.name}: first-token times had not settled after the warm-up")
        elif item.name != LATENCY or job.share >= 1 or item.why not in GOOD_ENDS:
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
    entry = exchange_entry(exchange, item.purpose, job.candidate_id, job.session.id)
    disturbed = job.session.sampler.disturbed(exchange.sent_s, exchange.sent_s + exchange.trace.finished_s)
    entry = dataclasses.replace(
        entry,
        point=dict(item.point),
        disturbed=disturbed,
        scheduled_lag_s=item.scheduled_lag_s,
        memory_bytes=job.session.sampler.latest_bytes(),
    )
    job.session.record.save_exchange(entry)
    job.seen(entry.figures.decode_tps, entry.memory_bytes)
