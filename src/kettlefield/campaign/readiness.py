"""What must hold before a campaign begins: everything that the plan names is there, and the rig can grade."""

import contextlib
import hashlib
import json
import os
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

from kettlefield import __version__
from kettlefield.core.errors import InputError
from kettlefield.grading.grader import Grader
from kettlefield.grading.vetting import warm_up
from kettlefield.languages.all_languages import find_toolchain
from kettlefield.languages.language import Missing
from kettlefield.languages.packages import find_packages
from kettlefield.measure.all_procedures import PROCEDURES
from kettlefield.plan.plan import Plan
from kettlefield.plan.suite_selection import Asked
from kettlefield.rig.remembered import recall, remember
from kettlefield.server.backend import BACKENDS
from kettlefield.suite.typed_toml import nearest

STORE, STATES = "grades-here", "states"
MOST_KNOWN = 16  # suites and toolchains that are remembered
_BOOT_ID = Path("/proc/sys/kernel/random/boot_id")


def check_extensions(plan: Plan) -> None:
    """Refuse a plan that names a protocol or a procedure that there is not; other packages may bring them.

    Raises
    ------
    InputError
        With the nearest known name.
    """
    for candidate in plan.candidates:
        protocol = candidate.server.protocol
        if protocol not in BACKENDS:
            hint = nearest(protocol, list(BACKENDS))
            raise InputError(f'there is no protocol "{protocol}"', f"{plan.path} [server]", hint)
        for name in candidate.speed.also:
            if name not in PROCEDURES:
                hint = nearest(name, list(PROCEDURES))
                raise InputError(f'there is no procedure "{name}"', f"{plan.path} [speed] also", hint)


def prepare_grading(grader: Grader, asked: Asked) -> None:
    """See that the rig can grade: an own answer of each language passes. Once seen, it holds until the next boot.

    What it depends on - suite, exercises, toolchains, packages, isolation, our own version - is remembered with it.

    Raises
    ------
    RigError
        An own answer does not pass here.
    """
    state = _state(grader, asked)
    known = recall(STORE, STATES) or []
    if state in known:
        return
    warm_up(asked.exercises, grader, workers=os.cpu_count() or 1)
    if state:
        remember(STORE, STATES, [*known[-MOST_KNOWN + 1 :], state])


def _state(grader: Grader, asked: Asked) -> str:
    """A digest over what grading depends on; empty where boots cannot be told apart: then nothing is remembered."""
    boot, languages = machine_id(), sorted(asked.languages)
    with ThreadPoolExecutor(max(1, len(languages))) as pool:
        tools = [repr(tool) for tool in pool.map(find_toolchain, languages)]
    tools += [repr(find_packages((name,))) for name in sorted(asked.packages)]
    ids = [exercise.id for exercise in asked.exercises]
    facts = [__version__, boot, grader.isolation.name, asked.digest, ids, tools]
    return hashlib.sha256(json.dumps(facts).encode()).hexdigest() if boot else ""


def machine_id() -> str:
    """What tells this machine's kernel from any other until its next boot; containers of one machine share it. Empty
    where there is none.
    """
    with contextlib.suppress(OSError):
        return _BOOT_ID.read_text(encoding="ascii").strip()
    return ""


def grading_tools(asked: Asked) -> dict[str, str]:
    """What grading rests on and may differ between machines: toolchains and packages, with their versions."""
    languages = sorted(asked.languages)
    with ThreadPoolExecutor(max(1, len(languages))) as pool:
        found = dict(zip(languages, pool.map(find_toolchain, languages), strict=True))
    tools = {name: "missing" if isinstance(tool, Missing) else tool.version for name, tool in found.items()}
    for name in sorted(asked.packages):
        packages = find_packages((name,))
        tools[f"package {name}"] = "missing" if isinstance(packages, str) else dict(packages.versions)[name]
    return tools
