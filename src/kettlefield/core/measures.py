"""The quantities that a criterion may name: their units, how they are written, how they are found."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from enum import StrEnum


class Unit(StrEnum):
    """What a measure is counted in."""

    RATIO = "ratio"  # 0 to 1
    SECONDS = "s"
    BYTES = "bytes"
    TOKENS_PER_SECOND = "tokens/s"
    REQUESTS_PER_SECOND = "requests/s"
    JOULES = "J"
    COUNT = "trials"
    LICENCE = "licence"  # an SPDX expression


@dataclass(frozen=True, slots=True, kw_only=True)
class Measure:
    """One measured quantity."""

    name: str
    unit: Unit
    meaning: str
    needs: str  # the part of a campaign that measures it, in words
    quantile: float | None = None  # a quantile of the speed samples
    field: str | None = None  # the sample's field that the quantile is taken of
    among: bool = False  # can be asked of exercises of one kind, language, difficulty, topic or suite


def _quantiles(field: str, unit: Unit, meaning: str, *qs: float) -> list[Measure]:
    return [
        Measure(
            name=f"{field}.p{round(q * 100)}",
            unit=unit,
            meaning=f"p{round(q * 100)} of {meaning}",
            needs="[speed] requests above 0",
            quantile=q,
            field=field,
        )
        for q in qs
    ]


MEASURES = {
    measure.name: measure
    for measure in (
        Measure(
            name="pass_rate",
            unit=Unit.RATIO,
            meaning="share of trials passed, faults of server and rig left out",
            needs="the answers part",
            among=True,
        ),
        Measure(
            name="marked_score",
            unit=Unit.RATIO,
            meaning="mean score of trials, marks mixed in at the weights of [marking] and [judge]",
            needs="the answers part",
            among=True,
        ),
        Measure(
            name="outcome_count",
            unit=Unit.COUNT,
            meaning="trials that ended in one of the outcomes that the criterion names",
            needs="the answers part",
            among=True,
        ),
        Measure(
            name="escape_attempts",
            unit=Unit.COUNT,
            meaning="trials whose answer was refused network, files or rights outside its sandbox, and died of it",
            needs="the answers part",
            among=True,
        ),
        *_quantiles("ttft_s", Unit.SECONDS, "time to first token, one request at a time", 0.5, 0.95),
        *_quantiles("decode_tps", Unit.TOKENS_PER_SECOND, "decode rate, one request at a time", 0.1, 0.5),
        Measure(
            name="peak_bytes",
            unit=Unit.BYTES,
            meaning="highest memory of the server, host and accelerator together",
            needs="a server that the plan starts",
        ),
        Measure(
            name="load_s",
            unit=Unit.SECONDS,
            meaning="server started until ready",
            needs="a server that the plan starts",
        ),
        Measure(
            name="cold_load_s",
            unit=Unit.SECONDS,
            meaning="server started until ready, its weights read from the disk",
            needs="[speed] cold_load = true",
        ),
        Measure(
            name="capacity_rps",
            unit=Unit.REQUESTS_PER_SECOND,
            meaning="highest rate of random arrivals at which the limits of [speed.open_loop] hold",
            needs="[speed.open_loop] ttft",
        ),
        Measure(
            name="joules_per_solved",
            unit=Unit.JOULES,
            meaning="energy of the answers part over the trials solved",
            needs="energy counters that this machine exposes",
        ),
        Measure(
            name="seconds_per_solved",
            unit=Unit.SECONDS,
            meaning="request time of all trials over those solved",
            needs="the answers part with something solved",
        ),
        Measure(
            name="stopwatch_floor_s",
            unit=Unit.SECONDS,
            meaning="the stopwatch's own error on this machine, p99",
            needs="`kettlefield calibrate` before the campaign begins",
        ),
        Measure(
            name="licence", unit=Unit.LICENCE, meaning="licence of the weights, as SPDX", needs="weights that tell it"
        ),
        Measure(
            name="prediction_error",
            unit=Unit.RATIO,
            meaning="how far measured peak memory lies off the predicted, as a share",
            needs="weights whose header is read, and a server that the plan starts",
        ),
    )
}


PROPERTIES = ("kind", "language", "difficulty", "topic", "suite")


def belongs(exercise: Mapping[str, str], wanted: Sequence[tuple[str, str]]) -> bool:
    """Whether an exercise has every property wanted.

    Parameters
    ----------
    exercise : mapping
        `PROPERTIES` to text; several topics stand in one, divided by commas.
    wanted : sequence of (str, str)
        Property and value; all must hold.
    """
    return all(
        value in exercise[name].split(",") if name == "topic" else exercise[name] == value for name, value in wanted
    )
