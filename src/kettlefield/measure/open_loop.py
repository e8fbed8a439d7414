"""Open loop: requests that arrive at random whatever the server does, and the highest rate at which limits hold."""

import asyncio
import time

import msgspec

from kettlefield.core.as_dict import as_dict
from kettlefield.core.timing.pacing import Bracket, arrival_times
from kettlefield.core.timing.timeline import quantile, read_figures
from kettlefield.core.units import format_duration
from kettlefield.measure.closed_loop import LOAD_TOKENS
from kettlefield.measure.procedure import BUDGET, DONE, SPEED, Bench, Ended, Procedure, Steps, Timed, Wish
from kettlefield.server.exchange import Exchange

OPEN_LOOP = "open_loop"
LEAST_REQUESTS = 8  # fewer arrivals say nothing of a p95
MOST_REQUESTS = 600  # more say nothing new, and a server that cannot keep up would be buried
MORE_GOES = 2  # at a rate that did not hold while the host was busy: that says nothing of the server
LATE_SHARE, LATE_S = 0.1, 0.02  # of the limit, and at least: requests of ours sent later than that are late
DRAIN = 1.0  # of the schedule's length: how long the last replies are waited for


class Limits(msgspec.Struct, frozen=True, kw_only=True):
    """When a rate holds."""

    ttft_s: float  # p95, from the scheduled moment
    decode_tps: float  # p10


class Try(msgspec.Struct, frozen=True, kw_only=True):
    """One rate."""

    rate_rps: float
    requests: int
    unanswered: int  # faults, refusals, and replies that were still under way when the time was over
    ttft_p95_s: float | None
    decode_p10_tps: float | None
    held: bool
    disturbed: str | None = None  # what the host was busy with when it did not hold, at the last go too


class Search(msgspec.Struct, frozen=True, kw_only=True):
    """How capacity is sought."""

    first_rate_rps: float
    lasting_s: float
    tries: int
    reply_tokens: int
    seed: int


async def seek_capacity(bench: Bench, limits: Limits, search: Search) -> Steps:
    """Try rates - doubled or halved at first, then in between - until the highest that holds is bracketed.

    A rate that does not hold while something else keeps the host busy has another go, and says so when it has no more.
    """
    bracket, tries = Bracket(), list[Try]()
    while len(tries) < search.tries:
        rate = bracket.next_rate(search.first_rate_rps)
        if rate is None:
            break
        if bench.budget.is_spent:
            yield Ended(name=OPEN_LOOP, why=BUDGET, facts=_facts(bracket, tries))
            return
        # a slow rate needs a longer schedule before enough has arrived, a fast one has enough sooner
        lasting_s = min(max(search.lasting_s, LEAST_REQUESTS / rate), MOST_REQUESTS / rate)
        moments = arrival_times(rate, lasting_s, search.seed)
        for _ in range(1 + MORE_GOES):
            began_s = time.perf_counter()
            answered, unanswered = await _send(bench, moments, search.reply_tokens, lasting_s * DRAIN)
            ended_s = time.perf_counter()
            for exchange, lag_s in answered:
                yield Timed(purpose=OPEN_LOOP, exchange=exchange, point={"rate_rps": rate}, scheduled_lag_s=lag_s)
            found = _judge(rate, answered, unanswered, limits)
            lags = [lag for _, lag in answered]
            busy = None if found.held else bench.disturbed(began_s, ended_s) or _late(lags, limits)
            if busy is None or bench.budget.is_spent or not bench.is_alive():
                break
        tries.append(msgspec.structs.replace(found, disturbed=busy))
        bracket = bracket.after(rate, held=found.held)
        if not bench.is_alive():
            yield Ended(name=OPEN_LOOP, why="the server died under load", facts=_facts(bracket, tries))
            return
    yield Ended(name=OPEN_LOOP, why=DONE, facts=_facts(bracket, tries))


def _facts(bracket: Bracket, tries: list[Try]) -> dict[str, object]:
    return {"capacity_rps": bracket.holds, "fails_at_rps": bracket.fails, "tries": [as_dict(one) for one in tries]}


async def _send(
    bench: Bench, moments: tuple[float, ...], reply_tokens: int, drain_s: float
) -> tuple[list[tuple[Exchange, float]], int]:
    """Send at the scheduled moments whatever has been answered by then; replies with their lag, and the number of
    those still under way at the end.
    """
    began_s = time.perf_counter()

    async def one(moment_s: float) -> tuple[Exchange, float]:
        await asyncio.sleep(max(0.0, began_s + moment_s - time.perf_counter()))
        exchange = await bench.ask(bench.filler(LOAD_TOKENS), reply_tokens)
        return exchange, exchange.sent_s - (began_s + moment_s)

    tasks = [asyncio.create_task(one(moment)) for moment in moments]
    if not tasks:
        return [], 0
    left_s = moments[-1] + drain_s
    done, late = await asyncio.wait(tasks, timeout=left_s)
    for task in late:
        task.cancel()
    await asyncio.gather(*late, return_exceptions=True)
    return [task.result() for task in tasks if task in done], len(late)


def _late(lags: list[float], limits: Limits) -> str | None:
    """That requests of ours were sent so late that it may be why a rate did not hold; None: they were not."""
    late_s = quantile(lags, 0.95) if lags else 0.0
    if late_s <= max(LATE_S, LATE_SHARE * limits.ttft_s):
        return None
    return f"requests were sent {format_duration(late_s)} late (p95)"


def _judge(rate: float, answered: list[tuple[Exchange, float]], unanswered: int, limits: Limits) -> Try:
    good = [(read_figures(exchange.trace), lag) for exchange, lag in answered if exchange.fault is None]
    firsts = [lag + figures.ttft_s for figures, lag in good if figures.ttft_s is not None]
    rates = [figures.decode_tps for figures, _ in good if figures.decode_tps is not None]
    refused = len(answered) - len(good) + unanswered
    p95 = quantile(firsts, 0.95) if firsts else None
    p10 = quantile(rates, 0.10) if rates else None
    held = (
        not refused
        and p95 is not None
        and p95 <= limits.ttft_s
        and (limits.decode_tps <= 0 or (p10 is not None and p10 >= limits.decode_tps))
    )
    return Try(
        rate_rps=rate,
        requests=len(answered) + unanswered,
        unanswered=refused,
        ttft_p95_s=p95,
        decode_p10_tps=p10,
        held=held,
    )


def _run(bench: Bench, wish: Wish) -> Steps:
    table = wish.speed.open_loop
    ttft_s = float(table.ttft or 0.0)
    search = Search(
        first_rate_rps=1 / ttft_s,  # begin where one request at a time would end
        lasting_s=table.lasting,
        tries=table.tries,
        reply_tokens=wish.reply_tokens,
        seed=wish.seed,
    )
    return seek_capacity(bench, Limits(ttft_s=ttft_s, decode_tps=table.decode), search)


AT_RANDOM = Procedure(
    name=OPEN_LOOP,
    doing="seeking its capacity",
    parts=frozenset({SPEED}),
    rank=60,
    wanted=lambda wish: wish.speed.open_loop.ttft is not None,
    run=_run,
)
