"""Each candidate against its model's reference level, paired by exercise and sample, under the same settings."""

import json
from collections.abc import Mapping
from typing import Any

import msgspec
import numpy as np
import pandas as pd

from kettlefield.core.statistics.paired import Pairs, count_pairs, exact_p, holm
from kettlefield.core.values import changes_between
from kettlefield.record.earlier import settings_now
from kettlefield.record.store import Record
from kettlefield.results.frames import counted_trials
from kettlefield.results.rows import candidate_rows, references_of


class Against(msgspec.Struct, frozen=True, kw_only=True):
    """One level compared with its reference; an exercise counts as won or lost by its samples together."""

    reference: str
    pairs: Pairs
    won: tuple[str, ...]  # exercises of which the level passed more samples
    lost: tuple[str, ...]
    p: float  # exact, of equal pass rates, over exercises won and lost; variants of one task are one
    p_adjusted: float  # Holm, over the levels of the model


def against_references(candidates: pd.DataFrame, trials: pd.DataFrame) -> dict[str, Against]:
    """The comparison of every candidate that has a reference level and shares trials with it, by name.

    Parameters
    ----------
    candidates : data frame
        Columns name, model, reference; where there is a column ``family``, candidates of one family are held
        against its reference, else those of one model.
    trials : data frame
        Columns candidate, exercise, task, sample, outcome, first_outcome; faults of server and rig are left out, on
        both sides of a pair.
    """
    passed = counted_trials(trials)
    against: dict[str, Against] = {}
    for _, of_model in candidates.groupby("family" if "family" in candidates else "model", sort=False):
        references = list(of_model[of_model["reference"].astype(bool)]["name"])
        levels = [name for name in of_model["name"] if name not in references]
        known = {
            name: one
            for name in levels
            if references and (one := find_against(passed, name, references[0])) is not None
        }
        adjusted = holm([one.p for one in known.values()])
        for (name, one), p_adjusted in zip(known.items(), adjusted, strict=True):
            against[name] = Against(
                reference=one.reference, pairs=one.pairs, won=one.won, lost=one.lost, p=one.p, p_adjusted=p_adjusted
            )
    return against


def against_full_cache(candidates: pd.DataFrame, trials: pd.DataFrame) -> dict[str, Against]:
    """The comparison of every candidate whose KV cache has fewer bits with the same at 16 bits, by name.

    Parameters
    ----------
    candidates : data frame
        Columns name, model, level, settings.
    trials : data frame
        As `against_references` takes them.
    """
    families, full = [], []
    for entry in candidates.to_dict("records"):
        settings = settings_now(entry["settings"])
        server = dict(settings.get("server", {}))
        full.append(server.pop("kv_bits", 16) == FULL_BITS)
        families.append(json.dumps([entry["model"], entry["level"], {**settings, "server": server}], sort_keys=True))
    return against_references(candidates.assign(family=families, reference=full), trials)


def find_against(passed: pd.DataFrame, level: str, reference: str) -> Against | None:
    """One candidate compared with another on what both were asked; None where that is nothing.

    Parameters
    ----------
    passed : data frame
        Columns candidate, exercise, task, sample, passed. Samples of one exercise are one cluster, and so are variants
        of one task.
    level, reference : str
        Candidates.
    """
    keys = ["exercise", "sample"]
    mine, other = (passed[passed["candidate"] == name] for name in (level, reference))
    mine, other = mine[[*keys, "task", "passed"]], other[[*keys, "passed"]]
    both = mine.merge(other, on=keys, suffixes=("", "_reference"))
    if both.empty:
        return None
    both = both.sort_values(["task", "exercise"], kind="stable")
    _, starts = np.unique(both["task"].to_numpy(dtype=str), return_index=True)
    sides = [
        [[bool(passed) for passed in part] for part in np.split(both[field].to_numpy(dtype=bool), starts[1:])]
        for field in ("passed", "passed_reference")
    ]
    nets = both["passed"].astype(int) - both["passed_reference"].astype(int)
    by_exercise = nets.groupby(both["exercise"]).sum()
    won = tuple(str(name) for name, net in by_exercise.items() if net > 0)
    lost = tuple(str(name) for name, net in by_exercise.items() if net < 0)
    by_task = nets.groupby(both["task"]).sum()
    p = exact_p(int((by_task > 0).sum()), int((by_task < 0).sum()))
    return Against(reference=reference, pairs=count_pairs(*sides), won=won, lost=lost, p=p, p_adjusted=p)


EMPTY = "an empty context"


def against_empty(filled: pd.DataFrame, empty: pd.DataFrame, candidate: str) -> Against | None:
    """A candidate with a part of its context filled, compared with itself on the exercises alone.

    Parameters
    ----------
    filled, empty : data frame
        Trials that count, as `counted_trials` gives them.
    candidate : str
        Whose.
    """
    mine, alone = (frame[frame["candidate"] == candidate] for frame in (filled, empty))
    return find_against(pd.concat([mine, alone.assign(candidate=EMPTY)]), candidate, EMPTY)


FULL_BITS = 16  # of a key or value element
_PARTS = ("sampling", "prompting", "grading")  # what changes replies or outcomes


def mixed_settings(record: Record) -> dict[str, str]:
    """For each candidate that was asked under other settings than its reference level, which, in words."""
    rows = candidate_rows(record)
    settings, references = {row.name: row.settings for row in rows}, references_of(rows)
    mixed = {}
    for row in rows:
        reference = references.get(row.model)
        if reference is None or reference == row.name:
            continue
        changes = changes_between(_answering(settings[reference]), _answering(row.settings))
        if changes:
            words = "; ".join(f"{change.what} {change.now} instead of {change.then}" for change in changes)
            mixed[row.name] = f"asked under other settings than {reference}: {words}"
    return mixed


def _answering(settings: Mapping[str, Any]) -> dict[str, Any]:
    context = {"context": settings.get("server", {}).get("context")}
    return {**{part: settings.get(part, {}) for part in _PARTS}, "server": context}
