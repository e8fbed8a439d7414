"""``[[candidate]]`` tables that stand for several: a pattern of files, settings that vary, what is left out."""

import fnmatch
import itertools
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any

import msgspec

from kettlefield.core.errors import InputError
from kettlefield.core.sizing.requirements import memory_need
from kettlefield.core.units import format_bytes
from kettlefield.plan import tables
from kettlefield.plan.drafting import model_name
from kettlefield.suite.typed_toml import nearest
from kettlefield.weights.facts import ModelFacts
from kettlefield.weights.formats import read_facts

MOST_CANDIDATES = 200  # of one plan: more is a pattern that was not meant so
# how a candidate's name tells a setting that varies; others are told as key=value
_SHORT = {"kv_bits": "kv{}", "context": "ctx{}", "concurrency": "c{}"}
_MAY_VARY = {field.name for table in tables.OVERRIDABLE.values() for field in msgspec.structs.fields(table)}


class Entry(msgspec.Struct, frozen=True, kw_only=True):
    """One candidate's table as if it had been written by itself."""

    table: Mapping[str, Any]
    variant: str = ""  # of settings that vary, as its name has it
    expanded: bool = False  # it comes from a pattern or from settings that vary: it may be left out


def expand(written: Sequence[Any], path: Path) -> list[Entry]:
    """Every ``[[candidate]]`` table with its patterns and varying settings multiplied out, in the plan's order.

    Parameters
    ----------
    written : sequence
        The tables as TOML has them; what is no table is passed on, for the reader to refuse.
    path : Path
        The plan; patterns are relative to its folder.

    Raises
    ------
    InputError
        A pattern matches nothing, two files are one model at one level, a key cannot vary.
    """
    entries: list[Entry] = []
    for number, table in enumerate(written, 1):
        where = f"{path} [candidate {number}]"
        entries += _expanded(table, where, path.resolve().parent) if isinstance(table, dict) else [Entry(table=table)]
        if len(entries) > MOST_CANDIDATES:
            hint = f"At most {MOST_CANDIDATES}: narrow weights, vary less, or exclude some."
            raise InputError(f"stands for {len(entries)} candidates", where, hint)
    return entries


def _expanded(table: dict[str, Any], where: str, folder: Path) -> list[Entry]:
    plain = {key: value for key, value in table.items() if key not in {"vary", "exclude"}}
    excluded = _patterns(table.get("exclude", []), where)
    combinations = list(_combinations(table.get("vary", {}), where))
    weights = plain.get("weights")
    is_pattern = isinstance(weights, str) and any(sign in weights for sign in "*?[")
    is_unnamed = isinstance(weights, str) and weights != "" and not {"model", "level"} <= set(plain)
    if not is_pattern and not is_unnamed:
        files = [plain]
    else:
        files = _one_a_file(plain, folder, where, excluded, is_pattern=is_pattern)
    is_expanded = is_pattern or len(combinations) > 1
    entries = []
    for file in files:
        for place, (settings, variant) in enumerate(combinations):
            one = {**file, **settings}
            if place and "reference" in one:
                one["reference"] = False  # the first value of each setting is what the others are compared with
            name = f"{one.get('model')}@{one.get('level')}" + (f"+{variant}" if variant else "")
            if not any(fnmatch.fnmatchcase(name, pattern) for pattern in excluded):
                entries.append(Entry(table=one, variant=variant, expanded=is_expanded))
    if not entries:
        raise InputError("stands for no candidate: all are excluded", where, "Narrow exclude.")
    return entries


def _one_a_file(
    plain: dict[str, Any], folder: Path, where: str, excluded: Sequence[str], *, is_pattern: bool
) -> list[dict[str, Any]]:
    """The table once a file, with model and level by its header."""
    weights = plain["weights"]
    paths = sorted(folder.glob(weights)) if is_pattern else [folder / weights]
    if is_pattern and not paths:
        raise InputError(f'weights = "{weights}" matches no file', where, f"It is relative to {folder}.")
    if len(paths) > 1 and "level" in plain:
        raise InputError(f"level stands beside {len(paths)} files", where, "Leave it out: headers say each one's.")
    known: dict[str, ModelFacts] = {}
    taken: set[Path] = set()
    for path in paths:
        if path in taken or any(fnmatch.fnmatchcase(path.name, pattern) for pattern in excluded):
            continue  # a further shard of a file that was read
        facts = read_facts(path)
        taken.update(facts.files)
        name = f"{plain.get('model', model_name(facts))}@{plain.get('level', facts.level)}"
        if name in known:
            both = f"{known[name].path.name} and {path.name}"
            raise InputError(f"{both} are both {name}", where, "Exclude one, or give it a [[candidate]] of its own.")
        known[name] = facts
    best: dict[str, str] = {}  # of each model the name of the file with the most bits a weight
    for name, facts in known.items():
        model = name.partition("@")[0]
        if model not in best or facts.bits_per_weight > known[best[model]].bits_per_weight:
            best[model] = name
    found = []
    for name, facts in known.items():
        model, _, level = name.partition("@")
        one = {**plain, "model": model, "level": level, "weights": _relative(facts.path, folder)}
        if plain.get("reference") and is_pattern:
            one["reference"] = best[model] == name
        found.append(one)
    return found


def _relative(path: Path, folder: Path) -> str:
    return str(path.relative_to(folder)) if path.is_relative_to(folder) else str(path)


def _combinations(vary: Any, where: str) -> Iterator[tuple[dict[str, Any], str]]:
    """Every combination of the settings that vary, the first values first, with the words for a name."""
    if not isinstance(vary, dict):
        raise InputError(f"vary is {vary!r}", where, "Write a table such as { kv_bits = [16, 8] }.")
    for key, values in vary.items():
        if key not in _MAY_VARY:
            raise InputError(f'vary holds "{key}"', where, nearest(key, sorted(_MAY_VARY)))
        if not isinstance(values, list) or not values or any(isinstance(value, list | dict) for value in values):
            raise InputError(f"vary {key} is {values!r}", where, "Write a list of numbers or texts.")
        if len({repr(value) for value in values}) < len(values):
            raise InputError(f"vary {key} holds a value twice", where, "Each once.")
    for values in itertools.product(*vary.values()):
        settings = dict(zip(vary, values, strict=True))
        words = [_SHORT.get(key, f"{key}={{}}").format(value) for key, value in settings.items()]
        yield settings, "+".join(words)


def _patterns(written: Any, where: str) -> list[str]:
    patterns = [written] if isinstance(written, str) else written
    if not isinstance(patterns, list) or not all(isinstance(pattern, str) for pattern in patterns):
        raise InputError(f"exclude is {written!r}", where, 'Write a pattern such as "*q2_k*", or a list of them.')
    return patterns


def why_it_cannot_fit(facts: ModelFacts, server: tables.ServerTable, overhead: int | None, budget: int) -> str:
    """Why a candidate cannot run as its settings say, in words; empty: it can, or its header does not tell.

    Parameters
    ----------
    facts : ModelFacts
        What its file is.
    server : ServerTable
        The candidate's.
    overhead : int, optional
        What the server takes beside weights and cache, in bytes; none: the rule of thumb.
    budget : int
        What a candidate may take, in bytes.
    """
    if facts.context_tokens and server.context > facts.context_tokens:
        return f"its window is {facts.context_tokens:,} tokens, asked for are {server.context:,}"
    if not facts.kv_heads:
        return ""
    need = memory_need(
        facts.shape(), server.context, kv_bits=server.kv_bits, parallel=server.concurrency, overhead_bytes=overhead
    ).total_bytes
    return f"needs {format_bytes(need)}, budget {format_bytes(budget)}" if need > budget else ""
