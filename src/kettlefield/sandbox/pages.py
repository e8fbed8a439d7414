"""How a page is opened inside an isolation: the browser, the driver that leads it, their needs and limits."""

import json
from collections.abc import Mapping, Sequence
from typing import Any

from kettlefield.rig.packages import Packages
from kettlefield.rig.toolchains import Toolchain
from kettlefield.sandbox.job import Job, RunLimits
from kettlefield.sandbox.languages import HARNESS, HARNESS_DIR, PYTHON_FLAGS

BROWSER_BYTES = 2**30  # what the browser and its driver take before any page
RUN_S = 120.0  # all visits of one answer together; one step is bounded by the harness, far below this
_PROGRAM, _INVENTORY = "page.py", "inventory.js"


def page_job(
    browser: Toolchain,
    python: Toolchain,
    driver: Packages,
    answers: Sequence[Mapping[str, str]],
    order: dict[str, Any],
    page_bytes: int,
) -> Job:
    """A job that opens the page of an order and carries its visits out.

    Parameters
    ----------
    browser, python : Toolchain
        Chromium, and the interpreter that its driver runs in.
    driver : Packages
        The package that leads the browser.
    answers : sequence of mapping
        Of each answer its page's files by name; answers that share a run are not shut off from each other.
    order : dict
        As the harness reads it; its expectations stay outside.
    page_bytes : int
        What the page may take beside the browser itself.
    """
    files = {f"{number}/{name}": text for number, answer in enumerate(answers) for name, text in answer.items()}
    harness = {f"{HARNESS_DIR}/{name}": (HARNESS / name).read_text(encoding="utf-8") for name in (_PROGRAM, _INVENTORY)}
    return Job(
        argv=(python.program, *PYTHON_FLAGS, f"{HARNESS_DIR}/{_PROGRAM}", "{fd}"),
        limits=RunLimits(
            wall_s=RUN_S * len(answers),
            cpu_s=RUN_S * len(answers),
            memory_bytes=BROWSER_BYTES + page_bytes,
            output_bytes=2**20,
            processes=1024,  # threads count, and a browser has some hundred
            scratch_bytes=256 * 2**20,
        ),
        files={**files, **harness},
        stdin=json.dumps({**order, "browser": browser.program, "files": sorted(files)}).encode(),
        mounts=(*python.mounts, *browser.mounts, *driver.mounts),
        env={"PACKAGES": ":".join(driver.search)},
        bound_address_space=False,
    )
