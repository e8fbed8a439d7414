"""Closed-loop load: a fixed number of requests in flight, a new one as soon as one ends."""

import asyncio

from kettlefield.core.timing.pacing import saturation, window_rate_tps
from kettlefield.core.timing.timeline import read_figures
from kettlefield.measure.procedure import BUDGET, DONE, MEMORY, SPEED, Bench, Ended, Load, Procedure, Steps, Timed, Wish
from kettlefield.server.exchange import Exchange

CLOSED_LOOP = "closed_loop"
LOAD_TOKENS = 256  # of every request under load: about what the suite's own prompts have


async def time_closed_loop(bench: Bench, concurrency: tuple[int, ...], *, requests: int, reply_tokens: int) -> Steps:
    """Time every concurrency in turn.

    Parameters
    ----------
    bench : Bench
        Of a server that is ready and idle.
    concurrency : tuple of int
        Requests in flight at once; tried in rising order.
    requests, reply_tokens : int
        Requests one after the other at each place in the loop, and the cap of each.
    """
    counts: list[dict[str, float | int | None]] = []
    for count in sorted(set(concurrency)):
        if bench.budget.is_spent:
            yield Ended(name=CLOSED_LOOP, why=BUDGET, facts={"counts": counts})
            return
        exchanges = await _all_at_once(bench, count, requests, reply_tokens)
        for exchange in exchanges:
            yield Timed(purpose=CLOSED_LOOP, exchange=exchange, point={"concurrency": count})
        good = [exchange for exchange in exchanges if exchange.fault is None]
        rate = window_rate_tps(
            [
                (e.sent_s, [e.sent_s + stamp for stamp in e.trace.stamps_s], read_figures(e.trace).completion_tokens)
                for e in good
            ]
        )
        counts.append({"concurrency": count, "rate_tps": rate, "faults": len(exchanges) - len(good)})
        if not good:
            yield Ended(name=CLOSED_LOOP, why=exchanges[0].fault or "no reply", facts={"counts": counts})
            return
    rates = [(int(f["concurrency"] or 0), float(f["rate_tps"])) for f in counts if f["rate_tps"] is not None]
    facts = {"counts": counts, "saturation_concurrency": saturation([c for c, _ in rates], [r for _, r in rates])}
    yield Ended(name=CLOSED_LOOP, why=DONE, facts=facts)


async def _all_at_once(bench: Bench, count: int, requests: int, reply_tokens: int) -> list[Exchange]:
    done: list[Exchange] = []

    async def client() -> None:
        for _ in range(requests):
            exchange = await bench.ask(bench.filler(LOAD_TOKENS), reply_tokens)
            done.append(exchange)
            if exchange.fault is not None:
                return

    await asyncio.gather(*(client() for _ in range(count)))
    return done


def _run(bench: Bench, wish: Wish) -> Steps:
    table = wish.speed.closed_loop
    return time_closed_loop(bench, table.concurrency, requests=table.requests, reply_tokens=wish.reply_tokens)


SEVERAL_AT_ONCE = Procedure(
    name=CLOSED_LOOP,
    doing="timing several requests at once",
    parts=frozenset({SPEED, MEMORY}),
    rank=50,
    wanted=lambda wish: bool(wish.speed.closed_loop.concurrency),
    run=_run,
    phase_by="concurrency",
    load=lambda wish: Load(
        requests=sum(wish.speed.closed_loop.concurrency) * wish.speed.closed_loop.requests,
        reply_tokens=wish.reply_tokens,
    ),
)
