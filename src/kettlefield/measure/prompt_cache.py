"""The same prompt twice: what a server's prompt cache saves."""

from kettlefield.measure.procedure import BUDGET, DONE, SPEED, Bench, Ended, Load, Procedure, Steps, Timed, lead

PROMPT_CACHE, CACHED, UNCACHED = "prompt_cache", "cached", "uncached"
PROMPT_TOKENS = 1024


async def time_cached(bench: Bench, prompts: int, *, window: int, reply_tokens: int) -> Steps:
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


WITH_PROMPT_CACHE = Procedure(
    name=PROMPT_CACHE,
    doing="timing the prompt cache",
    parts=frozenset({SPEED}),
    rank=40,
    wanted=lambda wish: wish.speed.prompt_cache > 0,
    run=lambda bench, wish: time_cached(
        bench, wish.speed.prompt_cache, window=wish.window, reply_tokens=wish.reply_tokens
    ),
    purposes=(CACHED, UNCACHED),
    load=lambda wish: Load(
        requests=2 * wish.speed.prompt_cache, prompt_tokens=wish.window // 2, reply_tokens=wish.reply_tokens
    ),
)
