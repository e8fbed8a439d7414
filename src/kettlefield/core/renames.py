"""Plan keys, measures and placeholders that have a new name since record format 8.

A plan file with an old name is refused with the new one named; a plan that an older record holds is read with the new
names put in.
"""

from collections.abc import Mapping
from typing import Any

# table -> old key -> new key; "" is the plan itself. A candidate and a [settings.NAME] block may hold the keys of all
PLAN_KEYS: Mapping[str, Mapping[str, str]] = {
    "": {"assessor": "judge"},
    "server": {"cache_bits": "kv_bits", "slots": "concurrency"},
    "prompting": {"guard": "preflight"},
    "speed": {"cached": "prompt_cache", "clients": "closed_loop", "arrivals": "open_loop"},
    "speed.closed_loop": {"counts": "concurrency"},
    "speed.open_loop": {"first_token": "ttft", "per_engineer_hour": "requests_per_engineer_hour"},
    "grading": {"in_flight": "concurrent_trials"},
}
MEASURES = {
    "first_token_s": "ttft_s",
    "first_answer_token_s": "answer_ttft_s",
    "decode_rate_tps": "decode_tps",
    "prefill_rate_tps": "prefill_tps",
}
PLACEHOLDERS = {"{slots}": "{concurrency}", "{cache_bits}": "{kv_bits}"}
_ANYWHERE = {old: new for table, keys in PLAN_KEYS.items() if "." not in table for old, new in keys.items()}


def new_key(old: str) -> str | None:
    """The present name of an old plan key, whatever its table; None: it never was one."""
    every = {name: new for keys in PLAN_KEYS.values() for name, new in keys.items()}
    return every.get(old)


def new_measure(old: str) -> str | None:
    """The present name of an old measure, its quantile kept: ``first_token_s.p95`` -> ``ttft_s.p95``."""
    name, dot, quantile = old.partition(".")
    return MEASURES[name] + dot + quantile if name in MEASURES else None


def current_plan(document: dict[str, Any]) -> dict[str, Any]:
    """A plan, or a candidate's settings, as an older version wrote them, under the present names.

    Parameters
    ----------
    document : dict
        As read from TOML or JSON; it is not changed.
    """
    table = _table(document, "")
    if isinstance(table.get("candidate"), list):
        table["candidate"] = [_keys(entry) for entry in table["candidate"]]
    if isinstance(table.get("settings"), dict):
        table["settings"] = {name: _keys(block) for name, block in table["settings"].items()}
    for entry in table.get("criterion", []):
        if isinstance(entry, dict) and isinstance(entry.get("measure"), str):
            entry["measure"] = new_measure(entry["measure"]) or entry["measure"]
    return table


def _table(table: dict[str, Any], path: str) -> dict[str, Any]:
    renamed: dict[str, Any] = {}
    for old, value in table.items():
        name = PLAN_KEYS.get(path, {}).get(old, old)
        # a judge has tables of its own: [judge.server]
        inner = name if path in {"", "judge"} else f"{path}.{name}"
        renamed[name] = _table(value, inner) if isinstance(value, dict) and name != "settings" else _copied(value)
    return renamed


def _keys(entry: Any) -> Any:
    """A table that may hold the keys of several others, those of ``[speed]``'s own tables among them."""
    if not isinstance(entry, dict):
        return entry
    named = {_ANYWHERE.get(key, key): value for key, value in entry.items()}
    return {key: _table(value, f"speed.{key}") if isinstance(value, dict) else value for key, value in named.items()}


def _copied(value: Any) -> Any:
    return [dict(entry) if isinstance(entry, dict) else entry for entry in value] if isinstance(value, list) else value
