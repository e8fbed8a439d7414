"""Which of a plan's several rigs this machine is, and the plan as it is carried out on it."""

import fnmatch
import socket
from collections.abc import Sequence

import msgspec

from kettlefield.core.errors import InputError
from kettlefield.plan import tables
from kettlefield.plan.candidates import Candidate
from kettlefield.plan.expansion import why_it_cannot_fit
from kettlefield.plan.plan import Plan
from kettlefield.rig.survey import own_fingerprint
from kettlefield.suite.typed_toml import nearest
from kettlefield.weights.formats import read_facts


def own_rig(plan: Plan, name: str | None, labels: Sequence[str] = ()) -> str:
    """The name of the rig that this machine is; of a plan with one ``[rig]``, the empty name.

    Parameters
    ----------
    plan : Plan
        The plan.
    name : str, optional
        What somebody says that it is; None: found by host name, fingerprint and labels.
    labels : sequence of str
        What a worker of a fleet says of itself.

    Raises
    ------
    InputError
        There is no such rig, or none or several match this machine.
    """
    names = [rig.name for rig in plan.rigs]
    where = f"{plan.path} [[rig]]"
    if not plan.rigs:
        if name:
            raise InputError(f'has one rig, so there is no "{name}"', str(plan.path), "Leave --rig out.")
        return ""
    if name is not None:
        if name not in names:
            raise InputError(f'there is no rig "{name}"', where, nearest(name, names))
        return name
    host, fingerprint = socket.gethostname(), own_fingerprint()
    matching = [rig.name for rig in plan.rigs if _matches(rig, host, fingerprint, labels)]
    if len(matching) == 1:
        return matching[0]
    this = f"this machine (host {host}, fingerprint {fingerprint})"
    if not matching:
        hint = "Give a rig its host or fingerprint, or say which one this is: --rig NAME."
        raise InputError(f"none of {', '.join(names)} matches {this}", where, hint)
    raise InputError(f"{' and '.join(matching)} match {this}", where, "Say which one it is: --rig NAME.")


def _matches(rig: tables.NamedRigTable, host: str, fingerprint: str, labels: Sequence[str]) -> bool:
    """Whether a machine is a rig: everything that the rig names must be so, and it must name something."""
    wanted = (
        (rig.host, bool(rig.host) and fnmatch.fnmatchcase(host, rig.host)),
        (rig.fingerprint, rig.fingerprint == fingerprint),
        (rig.labels, bool(rig.labels) and set(rig.labels) <= set(labels)),
    )
    return any(asked for asked, _ in wanted) and all(so for asked, so in wanted if asked)


def on_rig(plan: Plan, name: str) -> Plan:
    """The plan as it is carried out on one of its rigs: the candidates that are there and fit, and why others do not.

    Raises
    ------
    InputError
        None is left.
    """
    if not plan.rigs:
        return plan
    rig = next(one for one in plan.rigs if one.name == name)
    mine = [candidate for candidate in plan.candidates if candidate.rig == name]
    reasons = {candidate.name: _why_not(candidate, rig) for candidate in mine}
    left = tuple(candidate for candidate in mine if not reasons[candidate.name])
    left_out = tuple(f"{one}: {reason}" for one, reason in reasons.items() if reason)
    if not left:
        detail = "; ".join(left_out) or "No candidate runs on it."
        raise InputError(f'none of the candidates can run on rig "{name}"', f"{plan.path} [[rig]]", detail)
    own = tables.RigTable(**{key: getattr(rig, key) for key in tables.RigTable.__struct_fields__})
    return msgspec.structs.replace(plan, rig=own, rig_name=name, candidates=left, left_out=(*plan.left_out, *left_out))


def _why_not(candidate: Candidate, rig: tables.NamedRigTable) -> str:
    if candidate.weights is None:
        return ""
    if not candidate.weights.exists():
        return f"its weights are not there: {candidate.weights}"
    if rig.memory_budget is None:
        return ""
    try:
        facts = read_facts(candidate.weights)
    except InputError:
        return ""  # of a format that we do not read: it is tried
    return why_it_cannot_fit(facts, candidate.server, candidate.memory.overhead, rig.memory_budget)


def rig_of_host() -> dict[str, str]:
    """What a record keeps of a rig beside its facts, to know it again when its drivers changed."""
    return {"hostname": socket.gethostname()}
