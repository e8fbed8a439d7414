"""Single-stream latency over a grid of prompt and reply lengths, after a warm-up."""

from collections.abc import Callable, Mapping, Sequence

import msgspec

from kettlefield.core.timing.pacing import is_precise, is_settled
from kettlefield.core.timing.timeline import read_figures
from kettlefield.measure.procedure import (
    BUDGET,
    DECIDED,
    DONE,
    PRECISE,
    SPEED,
    Bench,
    Ended,
    Load,
    Procedure,
    Steps,
    Timed,
    Wish,
    lead,
    point_name,
)
from kettlefield.server.exchange import Ask

LOOKS = 4  # at what was timed by then, where timing stops when it is decided
MOST_WARM_UPS = 12  # a server that has not settled by then is timed as it is, and the record says so
LATENCY, WARM_UP = "latency", "warm-up"


class Grid(msgspec.Struct, frozen=True, kw_only=True):
    """What to time."""

    warm_up: int  # requests at the least
    requests: int  # at each point, at the most
    prompt_tokens: tuple[int, ...]  # none: the suite's own prompts
    reply_tokens: tuple[int, ...]
    precision: float  # 0: never stop early
    is_decided: Callable[[tuple[int, ...], int], bool] | None = None  # as `Wish` has it; for a grid of one point

    @property
    def looks(self) -> tuple[int, ...]:
        """After how many requests it is looked at whether more are needed."""
        if self.is_decided is None or len(self.prompt_tokens) > 1 or len(self.reply_tokens) > 1:
            return ()
        return tuple(sorted({max(1, round(self.requests * look / LOOKS)) for look in range(1, LOOKS + 1)}))


async def warm_up(bench: Bench, asks: Sequence[Ask], least: int) -> Steps:
    """Put the same prompt until three first-token times in a row lie close together, `least` times or more.

    With ``least`` 0 nothing is asked.
    """
    times: list[float] = []
    while least and len(times) < MOST_WARM_UPS and (len(times) < least or not is_settled(times)):
        exchange = await bench.client.ask(_unique(bench, asks[0], 16))
        yield Timed(purpose=WARM_UP, exchange=exchange)
        if exchange.fault is not None:
            yield Ended(name=WARM_UP, why=exchange.fault)
            return
        times.append(exchange.trace.stamps_s[0] if exchange.trace.stamps_s else exchange.trace.finished_s)
    yield Ended(name=WARM_UP, why=DONE, facts={"requests": len(times), "settled": is_settled(times)})


async def time_latency(bench: Bench, asks: Sequence[Ask], grid: Grid, done: Mapping[str, int]) -> Steps:
    """Time requests one after the other at every point of the grid.

    Parameters
    ----------
    bench : Bench
        Of a server that is ready and idle.
    asks : sequence of Ask
        The suite's prompts, taken in turn where the grid names no prompt length.
    grid : Grid
        What to time.
    done : mapping of str to int
        Requests that the record holds already, by `point_name`.
    """
    reasons: dict[str, str] = {}  # why each point ended
    looked: list[int] = []
    for prompt_tokens in grid.prompt_tokens or (None,):
        for reply_tokens in grid.reply_tokens:
            point = {"prompt_tokens": prompt_tokens, "reply_tokens": reply_tokens}
            firsts: list[float] = []
            rates: list[float] = []
            fitting = list(asks)
            number = done.get(point_name(point), 0)
            looked += [look for look in grid.looks if look <= number]
            while number < grid.requests:
                if bench.budget.is_spent:
                    facts = {"points": reasons, "cut_short": point_name(point), **_looks(looked, number, grid)}
                    yield Ended(name=LATENCY, why=BUDGET, facts=facts)
                    return
                ask = fitting[number % len(fitting)]
                request = _request(bench, ask, prompt_tokens, reply_tokens)
                exchange = await bench.counted(await bench.client.ask(request))
                if exchange.over_context and prompt_tokens is None and len(fitting) > 1:
                    fitting.remove(ask)  # that exercise cannot be asked either; another's prompt is timed
                    continue
                number += 1
                yield Timed(purpose=LATENCY, exchange=exchange, point=point)
                if exchange.fault is not None:
                    yield Ended(name=LATENCY, why=exchange.fault, facts={"points": reasons})
                    return
                figures = read_figures(exchange.trace)
                firsts += [figures.ttft_s] if figures.ttft_s else []
                rates += [figures.decode_tps] if figures.decode_tps else []
                if is_precise(firsts, grid.precision) and is_precise(rates, grid.precision):
                    reasons[point_name(point)] = PRECISE
                    break
                if number in grid.looks:
                    looked.append(number)
                    if grid.is_decided is not None and grid.is_decided(tuple(looked), grid.requests):
                        reasons[point_name(point)] = DECIDED
                        break
            reasons.setdefault(point_name(point), DONE)
    same = set(reasons.values())
    why = same.pop() if len(same) == 1 else DONE
    yield Ended(name=LATENCY, why=why, facts={"points": reasons, **_looks(looked, number, grid)})


def _looks(looked: Sequence[int], number: int, grid: Grid) -> dict[str, object]:
    """What the bounds of the timing rest on; nothing where it was looked at once, at its end."""
    if not looked:
        return {}
    last = [number] if number > looked[-1] else []
    return {"looks": [*looked, *last], "most_requests": grid.requests}


def _request(bench: Bench, ask: Ask, prompt_tokens: int | None, reply_tokens: int) -> Ask:
    if prompt_tokens is None:
        return _unique(bench, ask, reply_tokens)
    return bench.capped(bench.frame(lead() + bench.filler(prompt_tokens)), reply_tokens)


def _unique(bench: Bench, pattern: Ask, reply_tokens: int) -> Ask:
    """The request with a first line that occurred never before."""
    *before, last = pattern.messages
    fresh = {**last, "content": lead() + last["content"]}
    return bench.capped(Ask(messages=(*before, fresh), sampling={}, is_chat=pattern.is_chat), reply_tokens)


def _run(bench: Bench, wish: Wish) -> Steps:
    speed = wish.speed
    grid = Grid(
        warm_up=speed.warm_up,
        requests=round(speed.requests * wish.share),
        prompt_tokens=speed.prompt_tokens,
        reply_tokens=speed.reply_lengths,
        precision=speed.precision,
        is_decided=wish.is_decided,
    )
    return time_latency(bench, wish.asks, grid, wish.timed)


def _load(wish: Wish) -> Load:
    lengths, grid = wish.speed.reply_lengths, wish.speed.prompt_tokens
    points = wish.speed.requests * max(1, len(grid)) * len(lengths)
    return Load(
        requests=max(0, points - sum(wish.timed.values())),
        prompt_tokens=round(sum(grid) / len(grid)) if grid else wish.suite_tokens,
        reply_tokens=round(sum(lengths) / len(lengths)),
    )


ONE_AT_A_TIME = Procedure(
    name=LATENCY,
    doing="timing, one request at a time",
    parts=frozenset({SPEED}),
    rank=10,
    wanted=lambda wish: wish.speed.requests > 0,
    run=_run,
    in_blocks=True,
    load=_load,
)
