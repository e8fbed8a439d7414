"""The speed part: timed requests, one at a time, with nothing else running."""

import uuid
from collections.abc import AsyncIterator
from dataclasses import dataclass

from kettlefield.server.exchange import Ask, ChatClient, Exchange


@dataclass(frozen=True, slots=True, kw_only=True)
class SpeedSettings:
    """What to time."""

    warm_up: int
    requests: int
    reply_tokens: int


async def time_requests(
    client: ChatClient,
    asks: list[Ask],
    sampling: dict[str, object],
    settings: SpeedSettings,
) -> AsyncIterator[tuple[str, Exchange]]:
    """Time requests one after the other; yields "warm-up" or "speed" with each exchange.

    Every prompt starts with a line that occurred never before, so that no prompt cache answers for the
    prefill. Stops early when the server fails.

    Parameters
    ----------
    client : ChatClient
        Of a server that is ready and idle.
    asks : list of Ask
        Taken in turn.
    sampling : dict
        As sent, except that the cap is ``reply_tokens``.
    settings : SpeedSettings
        Numbers of requests, 0 or more.
    """
    for number in range(settings.warm_up + settings.requests):
        pattern = asks[number % len(asks)]
        *before, last = pattern.messages
        unique = {**last, "content": f"Request {uuid.uuid4().hex}.\n\n{last['content']}"}
        capped = {**sampling, "max_tokens": settings.reply_tokens}
        ask = Ask(messages=(*before, unique), sampling=capped, is_chat=pattern.is_chat)
        exchange = await client.ask(ask)
        yield ("warm-up" if number < settings.warm_up else "speed"), exchange
        if exchange.fault is not None:
            return
