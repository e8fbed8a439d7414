"""The plan's tables that say what is timed and weighed; the rest of the plan is in ``plan/tables.py``."""

from kettlefield.core.units import Duration, Size
from kettlefield.suite.format import Part


class DepthTable(Part, frozen=True, kw_only=True):
    """``[speed.depth]``: first token and decode rate as the context fills."""

    tokens: tuple[int, ...] = ()  # depths tried; none: not measured
    repeats: int = 3  # at each
    floor: float = 0.0  # tokens/s: the depth at which decoding falls below it is worked out
    past_window: bool = True  # what the server does with a prompt beyond its context
    system_tokens: int = 0  # also under a system prompt so long, as coding agents send; 0: not


class ClosedLoopTable(Part, frozen=True, kw_only=True):
    """``[speed.closed_loop]``: so many clients at once, each asking again when it has its reply."""

    concurrency: tuple[int, ...] = ()  # such as [1, 2, 4, 8]; none: not measured
    requests: int = 3  # at each place in the loop


class OpenLoopTable(Part, frozen=True, kw_only=True):
    """``[speed.open_loop]``: requests that arrive at random; finds the highest rate at which the limits hold."""

    ttft: Duration | None = None  # limit of p95, from the scheduled moment; none: not measured
    decode: float = 0.0  # tokens/s: limit of p10
    lasting: Duration = Duration(20)  # arrivals at each rate
    tries: int = 7  # rates tried at the most
    requests_per_engineer_hour: float | None = None  # none: capacity is given in requests a second only


class SpeedTable(Part, frozen=True, kw_only=True):
    """``[speed]``: timed requests, with nothing else running."""

    requests: int = 30  # at each point of the grid, at the most
    prompt_tokens: tuple[int, ...] = ()  # lengths of the grid; none: the suite's own prompts
    reply_tokens: int | tuple[int, ...] = 128  # one length, or several for the grid
    warm_up: int = 2  # at the least; continues until times to first token settle
    precision: float = 0.0  # stop when the medians' intervals are within this fraction; 0: never early
    budget: Duration = Duration(1800)  # of the whole part, for one candidate
    also: tuple[str, ...] = ()  # further procedures, by name: those that other packages bring
    prompt_cache: int = 0  # prompts asked twice, to time one that is in the prompt cache
    cold_load: bool = False  # time a load from the disk before the one that is used
    depth: DepthTable = DepthTable()
    closed_loop: ClosedLoopTable = ClosedLoopTable()
    open_loop: OpenLoopTable = OpenLoopTable()

    @property
    def reply_lengths(self) -> tuple[int, ...]:
        """The reply lengths of the grid, in tokens."""
        return self.reply_tokens if isinstance(self.reply_tokens, tuple) else (self.reply_tokens,)


class MemoryTable(Part, frozen=True, kw_only=True):
    """``[memory]``: how memory is sampled, and what the server is known to take."""

    overhead: Size | None = None  # beside weights and cache; none: the rule of thumb
    sample_every: Duration = Duration(0.1)
    idle_for: Duration = Duration(1)  # watched after the work is done
    leak_requests: int = 0  # equal requests, to see whether memory grows with each; 0: none


class FidelityTable(Part, frozen=True, kw_only=True):
    """``[fidelity]``: how likely fixed texts are to each level, by the server's log-probabilities."""

    texts: int = 0  # of the suite's own answers, drawn evenly over languages; 0: none
    text_files: tuple[str, ...] = ()  # patterns of your own source files, relative to the plan
    top_tokens: int = 20  # likeliest tokens that are listed at each position
    positions_each: int = 8  # of a text, drawn, where the server tells log-probabilities of one position a request
    most_chars: int = 4000  # of each text, so that it fits the context
