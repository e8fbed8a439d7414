"""The same prompt twice: what a server's prompt cache saves."""

from kettlefield.measure.procedure import BUDGET, DONE, Bench, Ended, Procedure, Timed, lead

PROMPT_CACHE, CACHED, UNCACHED = "prompt_cache", "cached", "uncached"
PROMPT_TOKENS = 1024


async def time_cached(bench: Bench, prompts: int, *, window: int, reply_tokens: int) -> Procedure:
    """Ask each of a number of new prompts twice in a row; the two are distinguished by purpose."""
    tokens = min(PROMPT_TOKENS, window // 2)
    for _ in range(prompts):
        if bench.budget.is_spent:
            yield Ended(name=PROMPT_CACHE, why=BUDGET)
            return
        text = lead() + bench.filler(tokens)
        for purpose in (UNCACHED, CACHED):
            exchange = await bench.ask(text, reply_tokens, unique=False)
            yield Timed(purpose=purpose, exchange=exchange, point={"prompt_tokens": tokens})
            if exchange.fault is not None:
                yield Ended(name=PROMPT_CACHE, why=exchange.fault)
                return
    yield Ended(name=PROMPT_CACHE, why=DONE)
