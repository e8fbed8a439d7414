"""Closed loop: so many clients at once, each asking again as soon as it has its reply."""

import asyncio

from kettlefield.core.timing.pacing import knee, window_rate_tps
from kettlefield.core.timing.timeline import read_figures
from kettlefield.measure.procedure import BUDGET, DONE, Bench, Ended, Procedure, Timed
from kettlefield.server.exchange import Exchange

CLIENTS = "clients"
LOAD_TOKENS = 256  # of every request under load: about what the suite's own prompts have


async def time_clients(bench: Bench, counts: tuple[int, ...], *, requests: int, reply_tokens: int) -> Procedure:
    """Time every count of clients in turn.

    Parameters
    ----------
    bench : Bench
        Of a server that is ready and idle.
    counts : tuple of int
        Clients at once; tried in rising order.
    requests, reply_tokens : int
        Requests of each client one after the other, and the cap of each.
    """
    found: list[dict[str, float | int | None]] = []
    for count in sorted(set(counts)):
        if bench.budget.is_spent:
            yield Ended(name=CLIENTS, why=BUDGET, facts={"counts": found})
            return
        exchanges = await _all_at_once(bench, count, requests, reply_tokens)
        for exchange in exchanges:
            yield Timed(purpose=CLIENTS, exchange=exchange, point={"clients": count})
        good = [exchange for exchange in exchanges if exchange.fault is None]
        rate = window_rate_tps(
            [
                (e.sent_s, [e.sent_s + stamp for stamp in e.trace.stamps_s], read_figures(e.trace).completion_tokens)
                for e in good
            ]
        )
        found.append({"clients": count, "rate_tps": rate, "faults": len(exchanges) - len(good)})
        if not good:
            yield Ended(name=CLIENTS, why=exchanges[0].fault or "no reply", facts={"counts": found})
            return
    rates = [(int(f["clients"] or 0), float(f["rate_tps"])) for f in found if f["rate_tps"] is not None]
    facts = {"counts": found, "knee_clients": knee([c for c, _ in rates], [r for _, r in rates])}
    yield Ended(name=CLIENTS, why=DONE, facts=facts)


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
