"""The ``[[rig]]`` tables of a plan for several machines: checked, and which of them a candidate runs on."""

import re
from collections.abc import Sequence
from pathlib import Path

from kettlefield.core.errors import InputError
from kettlefield.plan import tables
from kettlefield.suite.typed_toml import nearest

_NAME = re.compile(r"[a-z0-9][a-z0-9._-]{0,31}")


def read_rigs(written: tables.PlanFile, path: Path) -> tuple[tables.NamedRigTable, ...]:
    """The ``[[rig]]`` tables of a plan, checked; none where it has one ``[rig]``.

    Raises
    ------
    InputError
        A name cannot be one or appears twice, nothing says which machine a rig is, or a candidate names another rig.
    """
    rigs = written.rig if isinstance(written.rig, tuple) else ()
    names = [rig.name for rig in rigs]
    for number, rig in enumerate(rigs, 1):
        where = f"{path} [rig {number}]"
        if _NAME.fullmatch(rig.name) is None:
            hint = "Use up to 32 small letters, digits, dots, - and _, a letter or digit first."
            raise InputError(f'name is "{rig.name}"', where, hint)
        if names.count(rig.name) > 1:
            raise InputError(f'"{rig.name}" appears twice', where, "Each rig once.")
        if rig.cost_per_hour is not None and not rig.cost_per_hour >= 0:
            raise InputError(f"cost_per_hour is {rig.cost_per_hour:g}", where, "Write a number from 0.")
    for number, entry in enumerate(written.candidate, 1):
        unknown = next((name for name in entry.on if name not in names), None)
        if unknown is not None:
            hint = nearest(unknown, names) if names else "Name the machines in [[rig]] tables."
            raise InputError(f'on holds "{unknown}", which is not a rig', f"{path} [candidate {number}]", hint)
    return rigs


def rigs_of(entry: tables.CandidateTable, rigs: Sequence[tables.NamedRigTable]) -> tuple[tables.NamedRigTable, ...]:
    """The rigs that a candidate is to run on."""
    return tuple(rig for rig in rigs if not entry.on or rig.name in entry.on)


def weights_on(rig: tables.NamedRigTable | None, weights: str, folder: Path) -> Path:
    """Where a candidate's weights are: in the rig's folder, where it names one, else relative to the plan."""
    base = folder / rig.weights if rig is not None and rig.weights else folder
    return base / weights
