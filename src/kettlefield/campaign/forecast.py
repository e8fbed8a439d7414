"""What a plan still has to do and how long that takes at least - before the hours are spent."""

from dataclasses import dataclass

import numpy as np

from kettlefield.analysis.frames import speed_frame, trials_frame
from kettlefield.campaign.plan import Candidate
from kettlefield.campaign.registry import known_bandwidth, weights_facts
from kettlefield.record.store import Record
from kettlefield.rig.accelerators import Accelerator
from kettlefield.suite.format import Exercise

CHARS_PER_TOKEN = 3.0  # of code, as tokenizers of code models cut it; only where nothing was measured yet


@dataclass(frozen=True, slots=True, kw_only=True)
class Forecast:
    """One candidate's share of what is left to do."""

    candidate: str
    trials: int  # still to be run
    timed_requests: int  # still to be made
    rate_tps: float | None  # of one stream; None: nothing is known of it
    basis: str  # where the rate comes from
    at_least_s: float | None  # generating alone, requests side by side costing nothing; None without a rate


def forecast(
    chosen: list[Candidate], exercises: tuple[Exercise, ...], record: Record | None, accelerator: Accelerator | None
) -> tuple[Forecast, ...]:
    """What is left to do for each candidate, with the time that generating takes at least.

    The rate is the median of the record's timed requests where it has some, else the ceiling that the
    weights' header and the memory bandwidth set. A reply is as long as the record's are in the mean, else
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
    """
    bandwidth = known_bandwidth(accelerator)
    own_tokens = float(np.mean([_own_tokens(exercise) for exercise in exercises]))
    speeds = speed_frame(record) if record is not None else None
    trials = trials_frame(record) if record is not None else None
    found = []
    for candidate in chosen:
        rate, basis = None, "unknown: neither measured nor foretold by a header"
        timed, done, tokens = 0, 0, own_tokens
        if speeds is not None and trials is not None:
            mine = speeds[speeds["candidate"] == candidate.name]
            asked = trials[trials["candidate"] == candidate.name]
            timed, done = len(mine), int(asked["exercise"].isin([e.id for e in exercises]).sum())
            if len(mine):
                rate, basis = float(mine["decode_rate_tps"].median()), f"measured, n = {len(mine)}"
            if asked["completion_tokens"].notna().any():
                tokens = float(asked["completion_tokens"].mean())
        if rate is None:
            ceiling = weights_facts(candidate, bandwidth).get("decode_ceiling_tps")
            if isinstance(ceiling, float):
                rate, basis = ceiling, "ceiling by the header"
        left = len(exercises) * candidate.grading.samples - done
        speed = candidate.speed
        lengths = speed.reply_lengths
        requests = max(0, speed.requests * max(1, len(speed.prompt_tokens)) * len(lengths) - timed)
        seconds = None
        if rate is not None:
            generated = left * tokens / candidate.grading.in_flight + requests * sum(lengths) / len(lengths)
            seconds = generated / rate
        found.append(
            Forecast(
                candidate=candidate.name,
                trials=left,
                timed_requests=requests,
                rate_tps=rate,
                basis=basis,
                at_least_s=seconds,
            )
        )
    return tuple(found)


def _own_tokens(exercise: Exercise) -> float:
    return sum(len(text) for turn in exercise.turns for text in turn.answer.values()) / CHARS_PER_TOKEN
