"""What the timing procedures share: what they are given and yield, their time limit, prompts of a wanted length."""

import random
import time
import uuid
from collections.abc import AsyncIterator, Callable, Mapping, Sequence
from typing import Any

import msgspec

from kettlefield.measure.settings import FidelityTable, MemoryTable, SpeedTable
from kettlefield.server.exchange import Ask, ChatClient, Exchange, count_prompt
from kettlefield.server.prompt_scores import Telling

BERTHS = ("North 1", "North 2", "Spit", "Quarry Stage", "Gullholm", "Marsh Stage")
SHIPS = ("Teal", "Knot", "Ruff", "Smew", "Eider", "Turnstone")
DOINGS = ("cleared", "moored", "waits for the tide", "loads vehicles", "shifts berth", "reports fog")
WISH = "Write on: add entries of the same form, one a line, as many as you can.\n"


def berth_log(chars: int, rng: random.Random) -> str:
    """Log entries of at least a number of characters, the wish to write on included.

    Parameters
    ----------
    chars : int
        Wanted length; the text is at most one entry longer, and never shorter than the wish.
    rng : random.Random
        What is in the entries.
    """
    lines, length = [], len(WISH)
    while length < chars:
        line = (
            f"{rng.randrange(24):02}:{rng.randrange(60):02} {rng.choice(SHIPS)} {rng.choice(DOINGS)} at "
            f"{rng.choice(BERTHS)}, {rng.randrange(90)} vehicles, {rng.randrange(400)} aboard\n"
        )
        lines.append(line)
        length += len(line)
    return "".join(lines) + WISH


DONE, PRECISE, BUDGET, DECIDED = "done", "precise", "budget", "decided"
GUESSED_CHARS_PER_TOKEN = 3.2  # of prompts in prose and code; a figure that rests on it is marked as a guess


class Timed(msgspec.Struct, frozen=True, kw_only=True):
    """One timed request."""

    purpose: str  # "warm-up", or what the procedure calls it
    exchange: Exchange
    point: dict[str, Any] = msgspec.field(default_factory=dict)  # what of the procedure
    scheduled_lag_s: float | None = None  # sent this long after its scheduled moment


class Ended(msgspec.Struct, frozen=True, kw_only=True):
    """The end of a procedure."""

    name: str
    why: str  # DONE, PRECISE, BUDGET, DECIDED, or a fault in words
    facts: dict[str, Any] = msgspec.field(default_factory=dict)  # what it found out as a whole; units in the names


Steps = AsyncIterator[Timed | Ended]
SPEED, MEMORY = "speed", "memory"  # the parts of a campaign that a procedure may belong to


class Wish(msgspec.Struct, frozen=True, kw_only=True):
    """What a plan asks of one candidate's measuring."""

    speed: SpeedTable
    memory: MemoryTable
    window: int  # context, in tokens
    seed: int
    fidelity: FidelityTable = msgspec.field(default_factory=FidelityTable)
    asks: Sequence[Ask] = ()  # the suite's prompts
    texts: Sequence[Any] = ()  # that are scored: `fidelity.FixedText`, the same for every candidate
    scoring: Telling | None = None  # how the server tells log-probabilities; none: not found out yet
    share: float = 1.0  # of the timed requests that are to be in the record after this: below 1 while blocks are left
    timed: Mapping[str, int] = msgspec.field(
        default_factory=dict
    )  # requests that the record holds already, by `point_name`
    suite_tokens: int = 0  # of the suite's prompts in the mean, for an estimate
    # whether what is asked of the timing is decided, looked at after these numbers of requests, of so many at the
    # most; none: it is not looked at before its end
    is_decided: Callable[[tuple[int, ...], int], bool] | None = None

    @property
    def reply_tokens(self) -> int:
        """The cap of a reply where the procedure has no lengths of its own."""
        return min(self.speed.reply_lengths)


class Load(msgspec.Struct, frozen=True, kw_only=True):
    """What a procedure asks, at the most: for an estimate before it runs."""

    requests: int = 0
    prompt_tokens: int = 0  # of each
    reply_tokens: int = 0  # of each


class Procedure(msgspec.Struct, frozen=True, kw_only=True):
    """One procedure; a module of this package or of a third party offers it as a global."""

    name: str  # as the record and --again name it
    doing: str  # for who watches: "timing deeper contexts"
    parts: frozenset[str]  # of SPEED and MEMORY
    rank: int = 90  # lower runs earlier; what may bring the server down runs last
    wanted: Callable[[Wish], bool] = lambda _: False  # one that no key of the plan asks for is named under `also`
    run: Callable[["Bench", Wish], Steps]
    load: Callable[[Wish], Load] = lambda _: Load()
    purposes: tuple[str, ...] = ()  # of its requests, where they are not kept under its name
    phase_by: str = ""  # of a request's point: each of its values, requests in flight, is a phase of memory
    in_blocks: bool = False  # its requests are spread over the blocks in which candidates take turns


def point_name(point: Mapping[str, object]) -> str:
    """A point of a procedure as one text."""
    return ", ".join(f"{name} {value}" for name, value in sorted(point.items()) if value is not None)


def lead() -> str:
    """A first line that occurred never before: no prompt cache answers for what follows.

    Digits alone: a tokenizer takes them one by one or in groups of a fixed length, so that every such line has as many
    tokens as the next; letters and digits mixed would not.
    """
    return f"Request {uuid.uuid4().int % 10**20:020}.\n\n"


LEAD_CHARS = len(lead())


class Budget:
    """Time that a part may take."""

    def __init__(self, seconds: float) -> None:
        self._until_s = time.monotonic() + seconds

    @property
    def is_spent(self) -> bool:
        """Whether it is over."""
        return time.monotonic() >= self._until_s


class Bench(msgspec.Struct, frozen=True, kw_only=True):
    """A server that is ready and idle, and how it is asked."""

    client: ChatClient
    sampling: dict[str, Any]  # as sent; the cap is set by the procedure
    frame: Callable[[str], Ask]  # a user's text as the plan's prompt style puts it
    budget: Budget
    is_alive: Callable[[], bool]  # whether the server's process still runs, as far as we can know
    chars_per_token: float = GUESSED_CHARS_PER_TOKEN  # of the filler: measured as soon as the server counts for us
    frame_tokens: float | None = None  # of a prompt beside its filler, its unique line included; None: by characters
    prompts_guessed: bool = False  # the server counts no prompt tokens: lengths are by that guess
    counts_apart: bool = False  # it counts them only without streaming
    # what disturbed the host between two moments of the monotonic clock, in words; None: nothing
    disturbed: Callable[[float, float], str | None] = lambda *_: None

    async def ask(self, text: str, reply_tokens: int, *, unique: bool = True) -> Exchange:
        """Ask with a cap. A unique text starts with a line that occurred never before, so that no prompt
        cache answers for the prefill.
        """
        return await self.client.ask(self.capped(self.frame(lead() + text if unique else text), reply_tokens))

    async def counted(self, exchange: Exchange) -> Exchange:
        """The exchange with its prompt's tokens, asked for without streaming where the stream does not tell them."""
        if not self.counts_apart or exchange.fault is not None or exchange.trace.prompt_tokens is not None:
            return exchange
        tokens = (await count_prompt(self.client, exchange.ask)).trace.prompt_tokens
        return msgspec.structs.replace(exchange, trace=msgspec.structs.replace(exchange.trace, prompt_tokens=tokens))

    def filler(self, tokens: int) -> str:
        """A new text that makes a prompt of about a number of tokens, together with the line that makes it unique."""
        frame = LEAD_CHARS / self.chars_per_token if self.frame_tokens is None else self.frame_tokens
        chars = max(1, round((tokens - frame) * self.chars_per_token))
        # cut at its beginning to the character: an entry more or less is many tokens of a short prompt
        return berth_log(chars, random.Random(uuid.uuid4().int))[-chars:]

    def capped(self, ask: Ask, reply_tokens: int) -> Ask:
        """The request with the plan's sampling and a cap."""
        return msgspec.structs.replace(ask, sampling={**self.sampling, "max_tokens": reply_tokens})
