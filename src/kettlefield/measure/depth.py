"""First token and decode rate as the context fills, and what happens past its end."""

import msgspec

from kettlefield.core.plaintext import shorten
from kettlefield.measure.procedure import (
    BUDGET,
    DONE,
    MEMORY,
    SPEED,
    Bench,
    Ended,
    Load,
    Procedure,
    Steps,
    Timed,
    Wish,
    lead,
)

DEPTH, PAST_WINDOW, SYSTEM = "depth", "past-window", "system"
BEYOND = 1.3  # of the window: beyond it under any tokenizer's slack
CUT_BELOW = 0.95  # a server that counts fewer tokens than this share of the window has cut the prompt
MARGIN_TOKENS = 64  # of the window kept free for the frame round a prompt


async def time_depths(bench: Bench, depths: tuple[int, ...], *, window: int, repeats: int, reply_tokens: int) -> Steps:
    """Time requests whose prompts fill the context to each depth; one that the window cannot hold is left out.

    Parameters
    ----------
    bench : Bench
        Of a server that is ready and idle.
    depths : tuple of int
        Tokens; tried in rising order.
    window : int
        The context that the plan configured, in tokens.
    repeats, reply_tokens : int
        Requests at each depth, and the cap of each.
    """
    left_out = [depth for depth in depths if depth + reply_tokens + MARGIN_TOKENS > window]
    for depth in sorted(set(depths) - set(left_out)):
        for _ in range(repeats):
            if bench.budget.is_spent:
                yield Ended(name=DEPTH, why=BUDGET, facts={"depth_tokens": depth})
                return
            exchange = await bench.counted(await bench.ask(bench.filler(depth), reply_tokens))
            guess = {"guessed": True} if bench.prompts_guessed else {}
            yield Timed(purpose=DEPTH, exchange=exchange, point={"depth_tokens": depth, **guess})
            if exchange.fault is not None:
                yield Ended(name=DEPTH, why=exchange.fault, facts={"depth_tokens": depth})
                return
    yield Ended(name=DEPTH, why=DONE, facts={"left_out_tokens": left_out})


async def try_past_window(bench: Bench, *, window: int) -> Steps:
    """One prompt that the window cannot hold: a clear error, a silent cut, or a crash?"""
    exchange = await bench.ask(bench.filler(round(window * BEYOND)), 16)
    yield Timed(purpose=PAST_WINDOW, exchange=exchange, point={"depth_tokens": round(window * BEYOND)})
    counted = exchange.trace.prompt_tokens
    if not bench.is_alive():
        what = "the server died"
    elif exchange.fault is not None:
        what = f"an error: {shorten(exchange.fault, 160)}"
    elif counted is None:
        what = "it answers and does not say how much of the prompt it read"
    elif counted <= window:
        what = f"it answers, the prompt silently cut to {counted} tokens"
    else:
        what = f"it answers and read all {counted} tokens: its window is larger than the plan says"
    yield Ended(name=PAST_WINDOW, why=DONE, facts={"behaviour": what, "prompt_tokens": counted})


async def time_system_prompt(bench: Bench, *, system_tokens: int, repeats: int, reply_tokens: int) -> Steps:
    """Short requests under one long system prompt, as coding agents send it: the first reads it, later ones may
    find it in the server's cache.
    """
    system = lead() + bench.filler(system_tokens)
    for number in range(repeats + 1):
        ask = bench.frame(lead() + "Which ship is moored last?")
        if ask.is_chat:
            ask = msgspec.structs.replace(ask, messages=({"role": "system", "content": system}, *ask.messages[-1:]))
        else:
            ask = msgspec.structs.replace(
                ask, messages=({"role": "prompt", "content": system + ask.messages[0]["content"]},)
            )
        exchange = await bench.client.ask(bench.capped(ask, reply_tokens))
        yield Timed(purpose=SYSTEM, exchange=exchange, point={"system_tokens": system_tokens, "first": number == 0})
        if exchange.fault is not None:
            yield Ended(name=SYSTEM, why=exchange.fault)
            return
    yield Ended(name=SYSTEM, why=DONE)


def _run_depths(bench: Bench, wish: Wish) -> Steps:
    table = wish.speed.depth
    return time_depths(bench, table.tokens, window=wish.window, repeats=table.repeats, reply_tokens=wish.reply_tokens)


def _run_system(bench: Bench, wish: Wish) -> Steps:
    table = wish.speed.depth
    return time_system_prompt(
        bench, system_tokens=table.system_tokens, repeats=table.repeats, reply_tokens=wish.reply_tokens
    )


def _load_depths(wish: Wish) -> Load:
    depths = [depth for depth in wish.speed.depth.tokens if depth + wish.reply_tokens <= wish.window]
    return Load(
        requests=len(depths) * wish.speed.depth.repeats,
        prompt_tokens=round(sum(depths) / len(depths)) if depths else 0,
        reply_tokens=wish.reply_tokens,
    )


def _load_system(wish: Wish) -> Load:
    table = wish.speed.depth
    return Load(requests=table.repeats + 1, prompt_tokens=table.system_tokens, reply_tokens=wish.reply_tokens)


AS_CONTEXT_FILLS = Procedure(
    name=DEPTH,
    doing="timing deeper contexts",
    parts=frozenset({SPEED, MEMORY}),
    rank=20,
    wanted=lambda wish: bool(wish.speed.depth.tokens),
    run=_run_depths,
    load=_load_depths,
)
UNDER_SYSTEM_PROMPT = Procedure(
    name=SYSTEM,
    doing="timing under a long system prompt",
    parts=frozenset({SPEED}),
    rank=30,
    wanted=lambda wish: wish.speed.depth.system_tokens > 0,
    run=_run_system,
    load=_load_system,
)
BEYOND_WINDOW = Procedure(
    name=PAST_WINDOW,
    doing="trying past its window",
    parts=frozenset({SPEED}),
    rank=100,  # last: it may bring the server down
    wanted=lambda wish: bool(wish.speed.depth.tokens) and wish.speed.depth.past_window,
    run=lambda bench, wish: try_past_window(bench, window=wish.window),
    load=lambda wish: Load(requests=1, prompt_tokens=round(wish.window * BEYOND)),
)
