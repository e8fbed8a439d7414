"""The plan: read from its file, checked, and resolved so that every candidate holds all its settings."""

import fnmatch
import hashlib
import json
from pathlib import Path
from typing import Any

import msgspec

from kettlefield.core.acceptance import Criterion
from kettlefield.core.errors import InputError
from kettlefield.marking.scale import Weights
from kettlefield.plan import tables
from kettlefield.plan.candidates import Candidate, check_candidate, check_candidates
from kettlefield.plan.criteria import check_against_plan, read_criteria
from kettlefield.plan.expansion import Entry, expand, why_it_cannot_fit
from kettlefield.plan.rig_tables import read_rigs, rigs_of, weights_on
from kettlefield.plan.tables import Judge, check_evidence, read_judge, read_weights
from kettlefield.record.place import DatabasePlace, FilePlace, Place, name_of_title, read_place
from kettlefield.suite.typed_toml import nearest, read_text, read_toml, to_struct
from kettlefield.weights.formats import read_facts

MOST_WEIGHT = 1000.0  # of a suite beside others


class Plan(msgspec.Struct, frozen=True, kw_only=True):
    """A plan that was read and checked."""

    path: Path
    text: str
    title: str
    suites: tuple[tables.SuiteTable, ...]
    record: Place
    rig: tables.RigTable  # the one that it is carried out on
    rigs: tuple[tables.NamedRigTable, ...] = ()  # of a plan for several; each candidate is there once for each
    rig_name: str = ""  # which of them it is carried out on
    campaign: tables.CampaignTable
    candidates: tuple[Candidate, ...]
    criteria: tuple[Criterion, ...]
    conditions: tuple[str, ...]  # under which an approval holds
    digest: str  # of the file's text
    weights: Weights  # of marks
    judge: Judge | None  # a second model that marks replies
    parts: dict[str, str]  # digest of each part that a running campaign must not see changed
    left_out: tuple[str, ...]  # candidates that a pattern or varying settings stand for and that cannot run; why

    @property
    def folder(self) -> Path:
        """What relative paths in the plan are relative to."""
        return self.path.parent

    @property
    def logs(self) -> Path:
        """Where logs go, and what waits for a database: beside a record that is a file, else beside the plan."""
        return (self.record.folder if isinstance(self.record, FilePlace) else self.folder) / "logs"

    def until_decided(self) -> "Plan":
        """The same, stopping when it is decided.

        Raises
        ------
        InputError
            Candidates take turns already.
        """
        campaign = msgspec.structs.replace(self.campaign, until="decided")
        _check_campaign(self.path, campaign, self.rig)
        return msgspec.structs.replace(self, campaign=campaign, parts=self.parts | _campaign_part(campaign))


def read_plan(path: Path, *, keep_all: bool = False) -> Plan:
    """Read and check a plan.

    Parameters
    ----------
    path : Path
        The plan.
    keep_all : bool
        Keep what a pattern or varying settings stand for and what cannot fit.

    Raises
    ------
    InputError
        The file is missing or malformed, a key is unknown, a value is out of range or a file that it names
        is not there.
    """
    data = read_toml(path)
    tables_written = data.get("candidate")
    entries = expand(tables_written, path) if isinstance(tables_written, list) else []
    if entries:
        data = {**data, "candidate": [entry.table for entry in entries]}
    written = to_struct(data, tables.PlanFile, path)
    text = read_text(path)
    rigs = read_rigs(written, path)
    plain_rig = tables.RigTable() if isinstance(written.rig, tuple) else written.rig
    for one in rigs or (plain_rig,):
        _check_rig(one, f"{path} [rig]")
        _check_campaign(path, written.campaign, one)
    number_and_rig = [
        (number, rig)
        for number, entry in enumerate(written.candidate)
        for rig in (rigs_of(entry, rigs) if rigs else (None,))
    ]
    entries = [entries[number] for number, _ in number_and_rig]
    of_entry = [written.candidate[number] for number, _ in number_and_rig]
    every = [_resolve(path, written, of, rig, entry) for (of, rig), entry in zip(number_and_rig, entries, strict=True)]
    reasons = [
        # on which rigs a candidate fits is seen on each of them
        "" if keep_all or rigs else _why_left_out(one, entry, plain_rig)
        for one, entry in zip(every, entries, strict=True)
    ]
    candidates = tuple(one for one, reason in zip(every, reasons, strict=True) if not reason)
    left_out = tuple(f"{one.name}: {reason}" for one, reason in zip(every, reasons, strict=True) if reason)
    if every and not candidates:
        raise InputError("none of the candidates can run", f"{path} [candidate]", "; ".join(left_out))
    check_candidates(path, candidates)
    plan_parts: dict[str, Any] = {
        "suite": _suite_part(written),
        "rig": data.get("rig"),
        **{name: data.get(name) for name in tables.OVERRIDABLE},
        "criterion": data.get("criterion"),
        # left out where the plan does not have them, as plans of older records do not
        **{name: data[name] for name in ("conditions", "marking", "judge") if name in data},
        **{
            f"candidate {candidate.name}": {
                **candidate.settings(),
                "weights": entry.weights,
                "reference": entry.reference,
                **({"baseline": True} if entry.baseline else {}),
            }
            for candidate, entry, reason in zip(every, of_entry, reasons, strict=True)
            if not reason
        },
    }
    criteria = read_criteria(written.criterion, path)
    check_evidence(criteria, str(path))
    depths = frozenset(depth for candidate in candidates for depth in candidate.speed.depth.tokens)
    fills = frozenset(fill for candidate in candidates for fill in candidate.grading.fills if fill is not None)
    check_against_plan(criteria, depths, fills, str(path))
    return Plan(
        path=path.resolve(),
        text=text,
        title=written.title,
        suites=_suites(path, written),
        record=_record(path, written),
        rig=plain_rig,
        rigs=rigs,
        campaign=written.campaign,
        candidates=candidates,
        criteria=criteria,
        conditions=written.conditions,
        digest=_digest(text),
        weights=read_weights(written, str(path)),
        judge=read_judge(written, path),
        parts={name: _digest(json.dumps(part, sort_keys=True, default=str)) for name, part in plan_parts.items()}
        | _campaign_part(written.campaign),
        left_out=left_out,
    )


def select(plan: Plan, pattern: str | None, exercise_ids: list[str]) -> tuple[set[str], set[str]]:
    """The candidates and exercises that ``--only`` leaves; a pattern may name either.

    Raises
    ------
    InputError
        It matches neither.
    """
    names = [candidate.name for candidate in plan.candidates]
    if pattern is None:
        return set(names), set(exercise_ids)
    chosen = {name for name in names if fnmatch.fnmatchcase(name, pattern)}
    exercises = {name for name in exercise_ids if fnmatch.fnmatchcase(name, pattern)}
    if not chosen and not exercises:
        raise InputError(f'"{pattern}" matches nothing', "--only", nearest(pattern, names + exercise_ids))
    return chosen or set(names), exercises or set(exercise_ids)


def _check_rig(rig: tables.RigTable, where: str) -> None:
    if rig.blocks < 1:
        raise InputError(f"blocks is {rig.blocks}", where, "Write 1 or more.")
    if not rig.disturbed_above > 0:
        raise InputError(f"disturbed_above is {rig.disturbed_above}", where, "Write cores, above 0.")


def _check_campaign(path: Path, campaign: tables.CampaignTable, rig: tables.RigTable) -> None:
    where = f"{path} [campaign]"
    if campaign.looks < 2:
        raise InputError(f"looks is {campaign.looks}", where, "Write 2 or more.")
    if campaign.budget is not None and not campaign.budget > 0:
        raise InputError("budget is 0", where, 'Write a duration such as "4 h".')
    if campaign.until == "all" and campaign.budget is not None:
        raise InputError("has a budget and asks everything", where, 'Add until = "decided", or leave budget out.')
    if campaign.until == "decided" and rig.blocks > 1:
        hint = "Leave blocks out: the candidates take turns as the looks need it."
        raise InputError(f"stops when it is decided, and [rig] blocks is {rig.blocks}", where, hint)
    if campaign.until == "decided" and campaign.answers == "once":
        hint = "Leave one of them out: each rig asks as much as its own verdicts need, or one asks everything for all."
        raise InputError('has until = "decided" and answers = "once"', where, hint)


def _campaign_part(campaign: tables.CampaignTable) -> dict[str, str]:
    """What the record remembers of how it asks, which must not change half-way; the budget may."""
    kept: dict[str, object] = {}
    if campaign.until == "decided":
        kept = {"until": campaign.until, "looks": campaign.looks}
    if campaign.answers == "once":
        kept["answers"] = campaign.answers
    return {"campaign": _digest(json.dumps(kept))} if kept else {}


def _record(path: Path, written: tables.PlanFile) -> Place:
    place = read_place(written.record, path.resolve().parent)
    if isinstance(place, DatabasePlace) and place.campaign is None:
        return place.named(name_of_title(written.title))
    return place


def _suites(path: Path, written: tables.PlanFile) -> tuple[tables.SuiteTable, ...]:
    if isinstance(written.suite, str):
        return (tables.SuiteTable(name=written.suite, seed=written.suite_seed, selection=written.selection),)
    where = f"{path} [suite]"
    if not written.suite:
        raise InputError("there is no suite", where, "Name one, or add a [[suite]] table for each.")
    if written.suite_seed != 0 or written.selection != "all":
        hint = "Write seed and selection into the [[suite]] tables."
        raise InputError("suite_seed and selection stand beside [[suite]] tables", where, hint)
    wrong = next((suite for suite in written.suite if not 0 < suite.weight <= MOST_WEIGHT), None)
    if wrong is not None:
        hint = f"Write a number above 0, up to {MOST_WEIGHT}."
        raise InputError(f"weight of {wrong.name} is {wrong.weight}", where, hint)
    return written.suite


def _suite_part(written: tables.PlanFile) -> Any:
    """What the record remembers; as it was before there were seeds, so that older records are still resumed."""
    if not isinstance(written.suite, str):
        return msgspec.to_builtins(written.suite)
    is_plain = written.suite_seed == 0 and written.selection == "all"
    return written.suite if is_plain else [written.suite, written.suite_seed, written.selection]


def _why_left_out(candidate: Candidate, entry: Entry, rig: tables.RigTable) -> str:
    """Why a candidate that was not written by itself cannot run; empty: it can."""
    budget = rig.memory_budget
    if not entry.expanded or candidate.weights is None or budget is None:
        return ""
    return why_it_cannot_fit(read_facts(candidate.weights), candidate.server, candidate.memory.overhead, budget)


def _resolve(
    path: Path, written: tables.PlanFile, index: int, rig: tables.NamedRigTable | None, expanded: Entry
) -> Candidate:
    entry = written.candidate[index]
    where = f"{path} [candidate {index + 1}]"
    layers = [entry]
    if entry.settings is not None:
        if entry.settings not in written.settings:
            hint = (
                nearest(entry.settings, list(written.settings)) if written.settings else "Add a [settings.NAME] table."
            )
            raise InputError(f'there is no settings block "{entry.settings}"', where, hint)
        layers.insert(0, written.settings[entry.settings])
    resolved: dict[str, Any] = {}
    for name, table in tables.OVERRIDABLE.items():
        changes = {
            field.name: value
            for layer in layers
            for field in msgspec.structs.fields(table)
            if (value := getattr(layer, field.name)) is not msgspec.UNSET
        }
        if name == "server" and "url" in changes:
            changes.setdefault("command", ())  # attaching by url takes the place of a command of the whole plan
        resolved[name] = msgspec.structs.replace(getattr(written, name), **changes)
    weights = weights_on(rig, entry.weights, path.resolve().parent) if entry.weights else None
    candidate = Candidate(
        model=entry.model,
        level=entry.level,
        weights=weights,
        reference=entry.reference,
        baseline=entry.baseline,
        settings_name=entry.settings,
        variant=expanded.variant,
        rig=rig.name if rig is not None else "",
        **resolved,
    )
    check_candidate(where, candidate)
    return candidate


def _digest(text: str) -> str:
    return f"sha256:{hashlib.sha256(text.encode()).hexdigest()}"
