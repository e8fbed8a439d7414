"""What a decision rests on - rig, server, weights, settings, suite - its conditions, and what has changed since."""

import socket
from collections.abc import Mapping
from pathlib import Path
from typing import Any

import msgspec
import pandas as pd

from kettlefield.core.errors import InputError
from kettlefield.core.values import ABSENT, Change, changes_between
from kettlefield.record.store import Record
from kettlefield.results.capacity import Ends, capacity_found, floor_depth, procedure_ends
from kettlefield.results.frames import campaign_facts
from kettlefield.results.rig_rows import rig_of, rig_rows
from kettlefield.results.rows import candidate_rows, session_rows
from kettlefield.results.speed import timed_frame, undisturbed
from kettlefield.rig.survey import rig_state
from kettlefield.server.loaded import digest_programs, loaded_now, named
from kettlefield.weights.digests import digest_of_files
from kettlefield.weights.formats import files_of

_RIG_PARTS = ("host", "accelerators", "toolchains", "packages", "accelerator", "isolation")
_NOT_OF_THE_RIG = ("user_is_root",)


class Standing(msgspec.Struct, frozen=True, kw_only=True):
    """One candidate's grounds, as plain data."""

    candidate: str
    rig: dict[str, Any]
    server: dict[str, Any]
    weights: dict[str, Any]
    settings: dict[str, Any]
    suite: dict[str, Any]

    @property
    def server_words(self) -> str:
        """The server by what it loaded, and what it says of itself."""
        says = str(self.server.get("says") or "")
        return "; it says ".join(part for part in (named(self.server.get("loaded")), says) if part)


def standings(record: Record) -> dict[str, Standing]:
    """The grounds of every candidate in a record, by name."""
    return record.once("standings", lambda: _read_standings(record))


def _read_standings(record: Record) -> dict[str, Standing]:
    facts = campaign_facts(record)
    suite = {"name": facts["suite_name"], "digest": facts["suite_digest"]}
    sessions = _last_sessions(record)
    return {
        row.name: Standing(
            candidate=row.name,
            rig=_rig_of(dict(rig_of(record, row.name))),
            server=sessions.get(row.name, {}),
            weights={
                "path": row.weights_path,
                "sha256": row.weights_sha256,
                "files": row.weights_facts.get("files"),
            },
            settings=dict(row.settings),
            suite=suite,
        )
        for row in candidate_rows(record)
    }


def changes_of(then: Standing, now: Standing) -> tuple[Change, ...]:
    """What differs between two grounds of one candidate; where weights lie is not part of what they are."""
    changes: list[Change] = []
    for part in ("rig", "server", "weights", "settings", "suite"):
        sides = [dict(getattr(side, part)) for side in (then, now)]
        for side in sides:
            for name in ("path", "files"):  # where they lie, and what the digest says already
                side.pop(name, None)
            if part == "server":
                side["loaded"] = _by_path(side.get("loaded") or {})
        changes += changes_between(*sides, path=part)
    return tuple(changes)


def changes_since(record: Record, *, folder: Path) -> dict[str, tuple[Change, ...]]:
    """For each candidate what has changed on this machine since its campaign: nothing is started for it.

    Parameters
    ----------
    record : Record
        An open record.
    folder : Path
        What relative paths of server commands are relative to.

    Raises
    ------
    InputError
        No campaign was begun in it, or this machine is none of its several rigs.
    """
    facts, here = campaign_facts(record)["rig"], None
    rigs = rig_rows(record)
    if rigs:
        host = socket.gethostname()
        own = next((one for one in rigs if one.facts.get("hostname") == host), None)
        if own is None:
            hint = f"Run it on one of them: {', '.join(one.name for one in rigs)}."
            raise InputError(f"this machine (host {host}) is not a rig of the campaign", str(record.place), hint)
        facts, here = own.facts, {name for one in rigs if one.facts.get("hostname") == host for name in one.candidates}
    now = rig_state(facts.get("toolchains", {}), facts.get("packages", {}))
    rig = changes_between(
        {part: value for part, value in _rig_of(facts).items() if part in now},
        {part: value for part, value in _rig_of(now).items() if part in facts},
        path="rig",
    )
    changes = {}
    for name, then in standings(record).items():
        if here is not None and name not in here:
            continue  # what stands on another rig is seen there
        path = Path(then.weights["path"]) if then.weights["path"] else None
        digest = _digest_now(path) if path is not None else None
        weights = changes_between({"sha256": then.weights["sha256"]}, {"sha256": digest}, path="weights")
        known = then.server.get("program") or {}
        program = digest_programs(list(known), folder)
        server = changes_between(known, {one: program.get(one, ABSENT) for one in known}, path="server program")
        loaded = then.server.get("loaded") or {}
        now_loaded = loaded_now(loaded)
        server = (*server, *changes_between(_by_path(loaded), _by_path(now_loaded), path="server loaded"))
        changes[name] = (*rig, *server, *weights)
    return changes


def _by_path(loaded: Mapping[str, Any]) -> dict[str, Any]:
    """Files and packages that a server loaded, each under its path."""
    packages = {
        f"{entry.get('name') or entry['module']} in {entry['root']}": {
            name: entry.get(name) for name in ("version", "sha256", "record_sha256")
        }
        for entry in loaded.get("packages", ())
    }
    return {**loaded.get("files", {}), **packages}


def _rig_of(facts: dict[str, Any]) -> dict[str, Any]:
    known = {part: facts[part] for part in _RIG_PARTS if part in facts}
    if "host" in known:
        known["host"] = {name: value for name, value in known["host"].items() if name not in _NOT_OF_THE_RIG}
    return known


def _digest_now(path: Path) -> str:
    try:
        return digest_of_files(files_of(path))
    except InputError:
        return ABSENT


def _last_sessions(record: Record) -> dict[str, dict[str, Any]]:
    """What served each candidate last."""
    return {
        row.candidate: {
            "says": row.description,
            "program": row.program,
            "loaded": row.loaded,
            "preflight": row.preflight,
        }
        for row in session_rows(record)
    }


def conditions_of(record: Record, stated: tuple[str, ...]) -> dict[str, tuple[str, ...]]:
    """For each candidate the conditions under which its verdict holds, in words.

    Parameters
    ----------
    record : Record
        An open record.
    stated : tuple of str
        Those that the plan states.
    """
    timed, ends = timed_frame(record), procedure_ends(record)
    deep = undisturbed(timed[timed["purpose"] == "depth"]).dropna(subset=["prompt_tokens", "decode_tps"])
    return {
        row.name: (
            *stated,
            *_measured_under(row.settings, deep[deep["candidate"] == row.name], ends.get(row.name, {})),
        )
        for row in candidate_rows(record)
    }


def _measured_under(settings: Mapping[str, Any], deep: pd.DataFrame, ends: Ends) -> tuple[str, ...]:
    server, speed = settings.get("server", {}), settings.get("speed", {})
    said = []
    if "context" in server:
        concurrency = server.get("concurrency", 1)
        at_once = f", concurrency {concurrency}" if concurrency > 1 else ""
        cache = f", KV cache at {server['kv_bits']} bits" if "kv_bits" in server else ""
        said.append(f"context at most {server['context']:,} tokens{cache}{at_once}")
    floor_tps = float(speed.get("depth", {}).get("floor", 0.0))
    depth = floor_depth(deep, floor_tps)
    if depth is not None:
        said.append(f"beyond {depth:,.0f} tokens of context decoding falls below {floor_tps:g} tokens/s")
    capacity = capacity_found(speed.get("open_loop", {}), ends)
    if capacity is not None and capacity.holds_rps:
        each = speed.get("open_loop", {}).get("requests_per_engineer_hour")
        serves = f" ({capacity.engineers:,} engineers who send {each:g} an hour each)" if capacity.engineers else ""
        said.append(f"at most {capacity.holds_rps:.3g} requests/s{serves}")
    return tuple(said)
