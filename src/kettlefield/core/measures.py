"""The quantities that a criterion may name: their units, how they are written, how they are found."""

from dataclasses import dataclass
from enum import StrEnum


class Unit(StrEnum):
    """What a measure is counted in."""

    RATIO = "ratio"  # 0 to 1
    SECONDS = "s"
    BYTES = "bytes"
    TOKENS_PER_SECOND = "tokens/s"
    LICENCE = "licence"  # an SPDX expression


@dataclass(frozen=True, slots=True, kw_only=True)
class Measure:
    """One measured quantity."""

    name: str
    unit: Unit
    meaning: str
    quantile: float | None = None  # a quantile of the speed samples
    field: str | None = None  # the sample's field that the quantile is taken of


def _quantiles(field: str, unit: Unit, meaning: str, *qs: float) -> list[Measure]:
    return [
        Measure(
            name=f"{field}.p{round(q * 100)}",
            unit=unit,
            meaning=f"p{round(q * 100)} of {meaning}",
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
        ),
        *_quantiles("first_token_s", Unit.SECONDS, "time to first token, one request at a time", 0.5, 0.95),
        *_quantiles("decode_rate_tps", Unit.TOKENS_PER_SECOND, "decode rate, one request at a time", 0.1, 0.5),
        Measure(
            name="peak_bytes",
            unit=Unit.BYTES,
            meaning="highest memory of the server, host and accelerator together",
        ),
        Measure(name="load_s", unit=Unit.SECONDS, meaning="server started until ready"),
        Measure(name="licence", unit=Unit.LICENCE, meaning="licence of the weights, as SPDX"),
        Measure(
            name="prediction_error",
            unit=Unit.RATIO,
            meaning="how far measured peak memory lies off the predicted, as a share",
        ),
    )
}
