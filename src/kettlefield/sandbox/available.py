"""Which isolation works on this rig: the strongest one, tried by running it once."""

import shutil
import subprocess
from functools import cache

from kettlefield.core.errors import RigError
from kettlefield.sandbox.isolation import Bubblewrap, Isolation, UserNamespaces
from kettlefield.sandbox.job import Job, RunLimits
from kettlefield.sandbox.runner import run_job

_PROGRAMS = {"bubblewrap": "bwrap", "user namespaces": "unshare"}


@cache
def available_isolation() -> Isolation:
    """The strongest isolation that works on this rig, tried by running it once.

    Raises
    ------
    RigError
        None works.
    """
    failures = []
    backends: tuple[Isolation, ...] = (Bubblewrap(), UserNamespaces())
    for isolation in backends:
        failure = why_not(isolation)
        if failure is None:
            return isolation
        failures.append(f"{isolation.name}: {failure}")
    raise RigError(
        f"no isolation works here, so no generated code is run ({'; '.join(failures)})",
        "sandbox",
        "Install bubblewrap (apt-get install bubblewrap), or accept the risk with --unsafe-no-isolation.",
    )


def why_not(isolation: Isolation) -> str | None:
    """Why an isolation does not work here, or None when it does."""
    program = _PROGRAMS[isolation.name]
    if shutil.which(program) is None:
        return f"{program} is not installed"
    limits = RunLimits(wall_s=10, cpu_s=5, memory_bytes=2**28, output_bytes=2**16)
    try:
        report = run_job(Job(argv=("true",), limits=limits, files={}, result_fd=False), isolation)
    except (OSError, subprocess.SubprocessError, RigError) as err:
        return str(err)
    if report.exit_status == 0:
        return None
    lines = report.stderr.decode(errors="replace").strip().splitlines()
    return lines[-1] if lines else "it ends at once"
