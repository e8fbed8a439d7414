"""Many equal requests one after the other: does memory grow with each?"""

from kettlefield.measure.closed_loop import LOAD_TOKENS
from kettlefield.measure.procedure import BUDGET, DONE, MEMORY, Bench, Ended, Load, Procedure, Steps, Timed

LEAK = "leak"
REPLY_TOKENS = 8


async def watch_for_leak(bench: Bench, requests: int) -> Steps:
    """Ask short requests; memory is looked at after each by whoever keeps them."""
    for number in range(1, requests + 1):
        if bench.budget.is_spent:
            yield Ended(name=LEAK, why=BUDGET, facts={"requests": number - 1})
            return
        exchange = await bench.ask(bench.filler(LOAD_TOKENS), REPLY_TOKENS)
        yield Timed(purpose=LEAK, exchange=exchange, point={"number": number})
        if exchange.fault is not None:
            yield Ended(name=LEAK, why=exchange.fault, facts={"requests": number})
            return
    yield Ended(name=LEAK, why=DONE, facts={"requests": requests})


REPEATED = Procedure(
    name=LEAK,
    doing="watching its memory",
    parts=frozenset({MEMORY}),
    rank=70,
    wanted=lambda wish: wish.memory.leak_requests > 0,
    run=lambda bench, wish: watch_for_leak(bench, wish.memory.leak_requests),
    load=lambda wish: Load(requests=wish.memory.leak_requests, reply_tokens=REPLY_TOKENS),
)
