"""What a plan still has to do and how long that takes at least - before the hours are spent."""

from collections.abc import Mapping

import msgspec
import numpy as np

from kettlefield.campaign.measuring import ANSWERS, steps_left, wish_of
from kettlefield.campaign.preflight import prompt_chars, prompt_tokens
from kettlefield.campaign.prompts import render_exercise
from kettlefield.campaign.registering import known_bandwidth, weights_facts
from kettlefield.core.outcome import FAULTS, Outcome
from kettlefield.measure.all_procedures import asked_for
from kettlefield.measure.procedure import GUESSED_CHARS_PER_TOKEN, MEMORY, SPEED
from kettlefield.plan.candidates import Candidate
from kettlefield.record.store import Record
from kettlefield.results.frames import every_trial_frame, speed_frame
from kettlefield.results.rows import chars_per_token
from kettlefield.rig.accelerators import Accelerator
from kettlefield.suite.format import Exercise
from kettlefield.suite.selection_power import generated_tokens


class Forecast(msgspec.Struct, frozen=True, kw_only=True):
    """One candidate's share of what is left to do."""

    candidate: str
    trials: int  # still to be run
    faulted: int  # in the record as a fault of server or rig; run again only with --retry-faults
    timed_requests: int  # still to be made, at the most: of the grid, depth, past the window, cache, clients, leak
    prompt_tokens: int  # that all of these and the trials are to read, by estimate
    rate_tps: float | None  # decode rate of one stream; None: nothing is known of it
    prefill_tps: float | None  # None: not measured yet, so reading is not in the time
    basis: str  # where the rate comes from
    at_least_s: float | None  # reading and generating, requests side by side costing nothing; None without a rate
    over_context: dict[str, int]  # exercises whose prompts look longer than the context, with their tokens
    counted: bool  # those tokens rest on the server's own count; otherwise they are a guess


def forecast(
    chosen: list[Candidate],
    exercises: tuple[Exercise, ...],
    record: Record | None,
    accelerator: Accelerator | None,
    *,
    over: Mapping[str, frozenset[str]],
) -> tuple[Forecast, ...]:
    """What is left to do for each candidate, with the time that reading and generating take at least.

    The rates are the medians of the record's timed requests where it has some, else the decode rate is the ceiling
    that the weights' header and the memory bandwidth set. A reply is as long as the record's are in the mean, else
    as the exercise's own answer.

    Parameters
    ----------
    chosen : list of Candidate
        As the plan has them.
    exercises : tuple of Exercise
        Those that are to be asked.
    record : Record or None
        None when the campaign has not begun.
    accelerator : Accelerator or None
        The plan's.
    over : mapping
        Candidate -> parts of which nothing more is done.
    """
    bandwidth = known_bandwidth(accelerator)
    known = _Known(record) if record is not None else None
    return tuple(
        _forecast(candidate, exercises, known, bandwidth, over.get(candidate.name, frozenset())) for candidate in chosen
    )


class _Known:
    """What a record holds already."""

    def __init__(self, record: Record) -> None:
        self.record = record
        self.speeds, self.trials = speed_frame(record), every_trial_frame(record)
        self.counts = chars_per_token(record)


def _forecast(
    candidate: Candidate,
    exercises: tuple[Exercise, ...],
    known: _Known | None,
    bandwidth: float | None,
    over: frozenset[str],
) -> Forecast:
    rate, prefill, basis = None, None, "unknown: neither measured nor predicted from a header"
    tokens = generated_tokens(exercises) / len(exercises)
    done, faulted, ratio, ended, timed = 0, 0, None, {}, 0
    ends: dict[str, str] = {}
    if known is not None:
        mine = known.speeds[known.speeds["candidate"] == candidate.name]
        asked = known.trials[known.trials["candidate"] == candidate.name]
        asked = asked[asked["exercise"].isin([exercise.id for exercise in exercises])]
        done, faulted = len(asked), int(asked["outcome"].isin([str(fault) for fault in FAULTS]).sum())
        alone = asked[asked["context_fill"].isna()]
        ends = dict(zip(alone["exercise"], alone["outcome"], strict=True))
        ratio, timed = known.counts.get(candidate.name), len(mine)
        candidate_id = known.record.candidate_id(candidate.name)
        ended = known.record.procedures(candidate_id) if candidate_id is not None else {}
        if mine["decode_tps"].notna().any():
            rate, basis = float(mine["decode_tps"].median()), f"measured, n = {len(mine)}"
        if mine["prefill_tps"].notna().any():
            prefill = float(mine["prefill_tps"].median())
        if asked["completion_tokens"].notna().any():
            tokens = float(asked["completion_tokens"].mean())
    if rate is None:
        ceiling = weights_facts(candidate, bandwidth).get("decode_ceiling_tps")
        if isinstance(ceiling, float):
            rate, basis = ceiling, "ceiling by the header"
    fills = candidate.grading.fills
    left = 0 if ANSWERS in over else len(exercises) * candidate.grading.samples * len(fills) - done
    mean_tokens = _mean_prompt(candidate, exercises, ratio)
    suite_tokens = float(np.mean([mean_tokens if fill is None else fill * candidate.server.context for fill in fills]))
    missing = set(steps_left(candidate, ended, frozenset({SPEED, MEMORY}) - over))
    wish = msgspec.structs.replace(wish_of(candidate), suite_tokens=round(suite_tokens), timed={"all": timed})
    steps = [procedure.load(wish) for procedure in asked_for(wish) if procedure.name in missing]
    read = left * suite_tokens + sum(step.requests * step.prompt_tokens for step in steps)
    made = left * tokens / candidate.grading.concurrent_trials + sum(
        step.requests * step.reply_tokens for step in steps
    )
    return Forecast(
        candidate=candidate.name,
        trials=left,
        faulted=faulted,
        timed_requests=sum(step.requests for step in steps),
        prompt_tokens=round(read),
        rate_tps=rate,
        prefill_tps=prefill,
        basis=basis,
        at_least_s=None if rate is None else made / rate + (read / prefill if prefill else 0.0),
        over_context=_over_context(candidate, exercises, ratio, ends),
        counted=ratio is not None,
    )


def _over_context(
    candidate: Candidate, exercises: tuple[Exercise, ...], ratio: float | None, ends: Mapping[str, str]
) -> dict[str, int]:
    """Exercises that do not fit, as was found of those asked already, by estimate of the others; with their tokens."""
    tokens = prompt_tokens(candidate, exercises, ratio)
    over = Outcome.OVER_CONTEXT.value
    beyond = {name for name, count in tokens.items() if count >= candidate.server.context and name not in ends}
    return {name: tokens[name] for name in sorted(beyond | {name for name, outcome in ends.items() if outcome == over})}


def _mean_prompt(candidate: Candidate, exercises: tuple[Exercise, ...], ratio: float | None) -> float:
    chars = [prompt_chars(render_exercise(exercise, candidate.prompting)) for exercise in exercises]
    return float(np.mean(chars)) / (ratio or GUESSED_CHARS_PER_TOKEN)
