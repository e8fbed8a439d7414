"""How toolchains are looked for: what is on the path, which version it says it is, what it needs to see."""

import re
import shutil
import subprocess
from collections.abc import Callable
from pathlib import Path

from kettlefield.languages.language import Missing, Toolchain

PROBE_TIMEOUT_S = 20.0  # a version line takes milliseconds; a cold disk may take seconds


def version_probe(language: str, program: str, pattern: str, package: str) -> Callable[[], Toolchain | Missing]:
    """A probe for a program that is what it seems and prints its version when asked.

    Parameters
    ----------
    language, program : str
        Whose toolchain it is, and the name on the path.
    pattern : str
        Regular expression with the version in its first group.
    package : str
        Debian packages that install it.
    """

    def probe() -> Toolchain | Missing:
        program_on_path = shutil.which(program)
        match = re.search(pattern, ask([program_on_path, "--version"])) if program_on_path else None
        if program_on_path is None or match is None:
            return Missing(language=language, remedy=f"apt-get install {package}")
        real = Path(program_on_path).resolve()
        return Toolchain(language=language, program=str(real), version=match[1], mounts=outside_usr(real.parent))

    return probe


def ask(command: list[str]) -> str:
    """The first line that a program prints; empty when it cannot be run."""
    try:
        done = subprocess.run(command, capture_output=True, text=True, timeout=PROBE_TIMEOUT_S, check=False)
    except (OSError, subprocess.TimeoutExpired):
        return ""
    return done.stdout.strip().split("\n", 1)[0].strip()


def outside_usr(folder: Path) -> tuple[str, ...]:
    """A folder that an isolation must be shown: every isolation shows /usr."""
    resolved = folder.resolve()
    return () if resolved.is_relative_to("/usr") else (str(resolved),)
