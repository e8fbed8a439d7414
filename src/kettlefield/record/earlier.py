"""Names of earlier formats and what they are called now: for reading older records, whose values stay as written.

Signatures cover every value of a record, so an older record's rows are never rewritten: columns are renamed, and what
stands in them is read under the present name.
"""

import json
from collections.abc import Mapping
from typing import Any

import sqlalchemy as sa

from kettlefield.core.renames import current_plan

TABLES_OF_7 = {"judgement": "assessment"}  # now -> then
COLUMNS_OF_7: Mapping[str, Mapping[str, str]] = {  # table -> now -> then
    "exchange": {
        "concurrency": "in_flight",
        "ttft_s": "first_token_s",
        "answer_ttft_s": "first_answer_token_s",
        "decode_tps": "decode_rate_tps",
        "prefill_tps": "prefill_rate_tps",
        "itl_p50_s": "gap_p50_s",
        "itl_p95_s": "gap_p95_s",
        "itl_p99_s": "gap_p99_s",
        "itl_max_s": "gap_max_s",
    },
    "judgement": {"judge": "assessor"},
}
NEW_IN_8: Mapping[str, tuple[str, ...]] = {
    "exercise": ("suite_name", "suite_seed", "own_id"),
    "session": ("simulated",),
    "memory_block": ("concurrency",),
}
PROCEDURES = {"clients": "closed_loop", "arrivals": "open_loop", "cache": "prompt_cache", "guard": "preflight"}
_FACTS = {"clients": "concurrency", "knee_clients": "saturation_concurrency", "cache_bits": "kv_bits"}


def named_now(column: sa.ColumnElement[str]) -> sa.ColumnElement[str]:
    """A column of procedures' names or purposes, under their present names."""
    return sa.case(PROCEDURES, value=column, else_=column)


def phase_now(phase: str) -> str:
    """A memory phase under its present name: ``clients 4`` is ``closed_loop`` at a concurrency of 4."""
    first = phase.partition(" ")[0]
    return PROCEDURES.get(first, phase)


def settings_now(text: str) -> dict[str, Any]:
    """A candidate's settings as recorded, its keys under their present names."""
    settings: dict[str, Any] = current_plan(json.loads(text))
    return settings


def facts_now(text: str | None) -> dict[str, Any]:
    """A point of a procedure, or what one found out, its keys under their present names."""
    facts: dict[str, Any] = _renamed(json.loads(text or "{}"))
    return facts


def _renamed(value: Any) -> Any:
    if isinstance(value, dict):
        return {_FACTS.get(key, key): _renamed(entry) for key, entry in value.items()}
    return [_renamed(entry) for entry in value] if isinstance(value, list) else value
