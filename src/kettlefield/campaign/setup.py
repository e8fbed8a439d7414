"""The campaign written down before it starts: plan, suite, rig, candidates, weights' digests; who watches it."""

import json
import time
from collections.abc import Mapping
from typing import Any, Protocol

import msgspec

from kettlefield.campaign.deciding import drawn_blocks
from kettlefield.campaign.serving import key_headers
from kettlefield.core.errors import InputError
from kettlefield.core.outcome import Outcome
from kettlefield.core.statistics.estimate import not_measured_words
from kettlefield.core.units import format_duration
from kettlefield.measure.calibration import stored_calibration
from kettlefield.plan.criteria import check_against_suite
from kettlefield.plan.own_rig import rig_of_host
from kettlefield.plan.plan import Plan
from kettlefield.plan.suite_selection import Asked, Share
from kettlefield.record.entries import CampaignEntry, ExerciseEntry, RigEntry
from kettlefield.record.store import Record
from kettlefield.rig.accelerators import Accelerator
from kettlefield.rig.survey import own_fingerprint, rig_state
from kettlefield.sandbox.isolation import Isolation
from kettlefield.suite.format import Exercise

MOST_CLOCK_S = 30.0  # that a rig's clock may differ from the database's without a word


class Observer(Protocol):
    """A watcher of a campaign."""

    def digesting(self, total_bytes: int, done_bytes: int) -> None:
        """Weights are being read for their digests."""

    def planned(self, trials: int, done: int) -> None:
        """Trials in all, and how many of them are already in the record."""

    def phase(self, candidate: str, phase: str) -> None:
        """A candidate enters a phase: "load", "preflight", "warm-up", a procedure, "counting", "answers"."""

    def looked(self, candidate: str, words: str, left_out: int) -> None:
        """A look was taken; so many trials of the candidate are not asked, since nothing needs them."""

    def trial_done(self, candidate: str, exercise: str, outcome: Outcome) -> None:
        """A trial is in the record."""

    def seen(self, decode_tps: float | None, memory_bytes: int | None) -> None:
        """The last request's decode rate, and the server's memory at the time; None is not known."""

    def trouble(self, text: str) -> None:
        """Something failed; the campaign continues."""


def begin_campaign(
    record: Record, plan: Plan, asked: Asked, isolation: Isolation, accelerator: Accelerator | None
) -> None:
    """Write the campaign down, or make sure that the one in the record is this one.

    Raises
    ------
    InputError
        The record holds a campaign of another plan or another state of the suite.
    """
    campaign = record.campaign()
    _check_calibration(plan)
    for candidate in plan.candidates:
        key_headers(candidate.server.key_from)  # a missing key is reported before anything runs
    check_against_suite(plan.criteria, [properties_of(e, s) for s in asked.shares for e in s.exercises], str(plan.path))
    _check_styles(plan, asked)
    if campaign is None:
        blocks = drawn_blocks(plan, asked) if plan.campaign.until == "decided" else {}
        entry = _campaign_entry(plan, asked, isolation, accelerator)
        record.begin(
            entry, [_exercise_entry(e, share, asked, blocks) for share in asked.shares for e in share.exercises]
        )
        for line in plan.left_out:
            record.save_note(f"left out: {line}")
        return
    place = str(record.place)
    if campaign["suite_digest"] != asked.digest:
        raise InputError(
            f"was begun with another state of the suite {campaign['suite_name']} ({campaign['suite_digest'][:19]})",
            place,
            "Restore the suite, or give the plan a new record.",
        )
    if (campaign["until"] or "all") != plan.campaign.until:
        ways = {"all": "asks everything", "decided": "stops when it is decided"}
        then, now = ways[campaign["until"] or "all"], ways[plan.campaign.until]
        raise InputError(
            f"holds a campaign that {then}; the plan now {now}",
            place,
            "Undo the change, or give the plan a new record: how often one looks is settled before the first look.",
        )
    check_same_plan(campaign, plan, place)
    if not plan.rigs:
        record.set_not_measured(asked.not_measured)


def enter_rig(
    record: Record, plan: Plan, asked: Asked, isolation: Isolation, accelerator: Accelerator | None
) -> int | None:
    """Write down the rig that the campaign is carried out on, one of several; its id, or None where it is the only one.

    Raises
    ------
    InputError
        It lacks what some exercises need.
    """
    if not plan.rig_name:
        return None
    if asked.not_measured:
        hint = "Install it there: every rig of a campaign asks the same exercises, or no figures could be compared."
        what = f'rig "{plan.rig_name}" cannot ask all of the suite; {not_measured_words(asked.not_measured)[0]}'
        raise InputError(what, f"{plan.path} [[rig]]", hint)
    table = next(one for one in plan.rigs if one.name == plan.rig_name)
    entry = RigEntry(
        name=plan.rig_name,
        facts={**_rig_facts(asked, isolation, accelerator), **rig_of_host()},
        simulated=accelerator is not None and accelerator.simulated,
        memory_budget_bytes=int(table.memory_budget) if table.memory_budget is not None else None,
        cost_per_hour=table.cost_per_hour,
    )
    rig_id = record.put_rig(entry)
    ahead_s = record.clock_ahead_s()
    if abs(ahead_s) > MOST_CLOCK_S:
        way = "ahead of" if ahead_s > 0 else "behind"
        record.save_note(
            f"rig {plan.rig_name}: its clock is {format_duration(abs(ahead_s))} {way} the database's; "
            "moments in the record are those of each rig's clock, durations are each of one machine"
        )
    for line in plan.left_out:
        record.save_note(f"left out: {line}")
    return rig_id


def _check_styles(plan: Plan, asked: Asked) -> None:
    """Refuse exercises in a workspace where a candidate holds no conversation."""
    style = next((c.prompting.style for c in plan.candidates if c.prompting.style != "chat"), None)
    name = next((exercise.id for exercise in asked.exercises if exercise.workspace), None)
    if style is not None and name is not None:
        hint = 'Work in a repository is a conversation: use style = "chat", or a suite without such exercises.'
        raise InputError(f'style is "{style}", and {name} is set in a workspace', f"{plan.path} [prompting]", hint)


def check_same_plan(campaign: Mapping[str, Any], plan: Plan, place: str) -> None:
    """Refuse a plan that is not the one a campaign was begun with.

    Raises
    ------
    InputError
        A part of it was changed since; candidates may be added.
    """
    before: dict[str, str] = json.loads(campaign["plan_parts"])
    # a part that older records know nothing of is not looked at; that of the campaign has always been kept if set
    names = {name: None for name in (*before, "campaign")}
    changed = [name for name in names if plan.parts.get(name) != before.get(name)]
    if changed:
        raise InputError(
            f"was begun with another plan; changed since: {', '.join(changed)}",
            place,
            "Undo the change, or give the plan a new record: results under other settings are never mixed in.",
        )


def _check_calibration(plan: Plan) -> None:
    """Refuse to time anything when the plan wants a calibration that is not there or too old."""
    within_s = plan.rig.calibrated_within
    if within_s is None:
        return
    known = stored_calibration(own_fingerprint())
    if known is None or time.time() - known.at > within_s:
        when = "never was" if known is None else f"was {format_duration(time.time() - known.at)} ago"
        raise InputError(
            f"wants a calibration within {format_duration(within_s)}; the last one {when}",
            f"{plan.path} [rig] calibrated_within",
            "Run `kettlefield calibrate` while the machine is quiet.",
        )


def _rig_facts(asked: Asked, isolation: Isolation, accelerator: Accelerator | None) -> dict[str, object]:
    card = None if accelerator is None else {"name": accelerator.name, "memory_bytes": accelerator.memory_bytes}
    return {
        **rig_state(asked.languages, asked.packages),
        "calibration": msgspec.to_builtins(stored_calibration(own_fingerprint())),
        "accelerator": card,
        "isolation": {"name": isolation.name, "lacks": list(isolation.lacks)},
    }


def _campaign_entry(plan: Plan, asked: Asked, isolation: Isolation, accelerator: Accelerator | None) -> CampaignEntry:
    return CampaignEntry(
        title=plan.title,
        plan_text=plan.text,
        plan_digest=plan.digest,
        plan_parts=plan.parts,
        suite_name=asked.label,
        suite_digest=asked.digest,
        # of several each has a row of its own
        rig={} if plan.rigs else _rig_facts(asked, isolation, accelerator),
        simulated=accelerator is not None and accelerator.simulated,
        until=None if plan.campaign.until == "all" else plan.campaign.until,
    )


def properties_of(exercise: Exercise, share: Share) -> dict[str, str]:
    """What criteria tell exercises apart by."""
    spec = exercise.spec
    return {
        "kind": spec.kind,
        "language": spec.language,
        "difficulty": str(spec.difficulty),
        "topic": ",".join(spec.topics),
        "suite": share.label,
    }


def _exercise_entry(exercise: Exercise, share: Share, asked: Asked, blocks: Mapping[str, int]) -> ExerciseEntry:
    spec = exercise.spec
    return ExerciseEntry(
        id=exercise.id,
        title=spec.title,
        kind=spec.kind,
        language=spec.language,
        difficulty=spec.difficulty,
        topics=spec.topics,
        suite=share.label,
        weight=share.weight,
        varies=bool(spec.vary),
        suite_name=share.name,
        suite_seed=share.seed,
        own_id=exercise.id.rpartition("/")[2] if len(asked.shares) > 1 else exercise.id,
        not_measured=asked.not_measured.get(exercise.id),
        guidance=exercise.guidance,
        refer=_places(exercise),
        block=blocks.get(exercise.id),
    )


def _places(exercise: Exercise) -> dict[str, object] | None:
    """Of the long text that an exercise is about: its length, and where in what is shown the needed parts stand."""
    text = exercise.refer_to
    if text is None:
        return None
    shown = len(text.text) + len(exercise.prompt)
    needed = [round((first + end) / 2 / shown, 4) for first, end in text.needed.values()]
    return {"text": text.name, "chars": len(text.text), "needed": needed}
