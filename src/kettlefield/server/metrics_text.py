"""What a server says of itself: counters and gauges in the Prometheus text format, read with care."""

import math
from collections.abc import Mapping

import msgspec
from prometheus_client.parser import text_string_to_metric_families

MOST_TEXT_BYTES = 4 * 2**20
MOST_NAMES = 200  # families kept; a server has some dozens
KINDS = {"counter": "counter", "gauge": "gauge"}


class Readings(msgspec.Struct, frozen=True, kw_only=True):
    """One look at a server's counters and gauges, each summed over its labels."""

    values: Mapping[str, float]
    kinds: Mapping[str, str]  # "counter" or "gauge"


def read_metrics(text: str) -> Readings:
    """Counters and gauges of a page in the Prometheus text format; histograms and summaries are left out.

    Raises
    ------
    ValueError
        The text is of another format.
    """
    values: dict[str, float] = {}
    kinds: dict[str, str] = {}
    for family in text_string_to_metric_families(text):
        kind = KINDS.get(family.type)
        if kind is None:
            continue
        for sample in family.samples:
            # beside a counter stands the moment of its creation
            if sample.name.endswith("_created") or not math.isfinite(sample.value):
                continue
            if sample.name not in values and len(values) >= MOST_NAMES:
                continue
            values[sample.name] = values.get(sample.name, 0.0) + sample.value
            kinds[sample.name] = kind
    return Readings(values=values, kinds=kinds)


_PROMPT, _MADE = ("prompt", "input", "prefill"), ("generat", "complet", "output", "predict", "decode")
_WAITING, _RUNNING = ("wait", "queue", "pending", "defer"), ("running", "processing", "active", "in_flight")


def means(name: str, kind: str) -> str | None:
    """What a counter or gauge tells, by the words of its name; None: nothing that is known here.

    Names are each server's own; there is no standard for them. Rates and times are not counts.
    """
    low = name.lower()
    if any(word in low for word in ("second", "_ms", "ratio_", "rate", "latency")) and "cache" not in low:
        return None
    if kind == "counter" and "token" in low and "cache" not in low:
        if any(word in low for word in _PROMPT):
            return "prompt_tokens"
        return "completion_tokens" if any(word in low for word in _MADE) else None
    if kind == "gauge":
        if "cache" in low and any(word in low for word in ("usage", "used", "use_", "ratio", "perc", "full")):
            return "cache_use"
        if "token" in low:
            return None
        if any(word in low for word in _WAITING):
            return "waiting"
        return "running" if any(word in low for word in _RUNNING) else None
    return None
