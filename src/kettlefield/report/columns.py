"""The data dictionary of the tables that are handed on: every column, its unit, what it means."""

from dataclasses import dataclass


@dataclass(frozen=True, slots=True, kw_only=True)
class Column:
    """One column of a table."""

    name: str
    unit: str  # empty: none
    meaning: str


def _columns(*rows: tuple[str, str, str]) -> tuple[Column, ...]:
    return tuple(Column(name=name, unit=unit, meaning=meaning) for name, unit, meaning in rows)


TRIALS = _columns(
    ("id", "", "number of the trial in the record"),
    ("candidate", "", "model@level"),
    ("simulated", "", "whether the campaign measured made-up models"),
    ("suite", "", "the exercise's suite, with its seed and selection"),
    ("exercise", "", "the exercise's id"),
    ("kind", "", "what it asks for: write, repair, extend ..."),
    ("language", "", "the language that it asks for"),
    ("difficulty", "", "1 (easy) to 5 (hard)"),
    ("topics", "", "divided by commas"),
    ("sample", "", "1, 2 ...: how often the exercise was asked"),
    ("seed", "", "sent with the request"),
    ("outcome", "", "how the trial ended, repair turns included; server-fault and rig-fault count against nobody"),
    ("first_outcome", "", "how it would have ended without repair turns"),
    ("score", "share", "weighted share of the checks that passed in the last attempt"),
    ("attempts", "", "requests that were graded: turns and repair turns"),
    ("in_flight", "requests", "most requests under way at once during the last attempt's"),
    ("prompt_tokens", "tokens", "of the last attempt's prompt, as the server counts"),
    ("completion_tokens", "tokens", "of its reply, thinking included"),
    ("thinking_tokens", "tokens", "of these, thinking"),
    ("first_token_s", "s", "request fully written until the first event with text"),
    ("first_answer_token_s", "s", "the same until the first that is no thinking"),
    ("decode_rate_tps", "tokens/s", "(tokens - 1) / (last - first); beside others in flight, so no latency figure"),
    ("finished_s", "s", "request fully written until the reply's end"),
    ("finish_reason", "", "as the server gives it"),
)

SAMPLES = _columns(
    ("candidate", "", "model@level"),
    ("simulated", "", "whether the campaign measured made-up models"),
    ("purpose", "", "the procedure that timed it: latency, depth, system, uncached, cached, clients, arrivals, leak"),
    ("point", "", "what of the procedure, as JSON: lengths asked for, depth, number of clients, rate"),
    ("disturbed", "", "why this sample is not like the others; empty: it was not"),
    ("in_flight", "requests", "most requests under way at once"),
    ("scheduled_lag_s", "s", "sent so much after its scheduled moment; latency under a schedule counts from there"),
    ("prompt_tokens", "tokens", "as the server counts"),
    ("completion_tokens", "tokens", "as counted by token_count"),
    ("token_count", "", "usage: the server counted; events: we counted events with text"),
    ("events", "events", "with text"),
    ("packed", "", "several tokens an event"),
    ("first_token_s", "s", "request fully written until the first event with text"),
    ("decode_rate_tps", "tokens/s", "(tokens - 1) / (last - first)"),
    ("prefill_rate_tps", "tokens/s", "prompt tokens / first_token_s, uncached prompts only"),
    ("memory_bytes", "bytes", "host and accelerator together when the request ended"),
)

TABLES = {"trials": TRIALS, "samples": SAMPLES}
