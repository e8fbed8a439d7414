"""What is run in isolation, within which limits, and what came of it."""

from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path


@dataclass(frozen=True, slots=True, kw_only=True)
class RunLimits:
    """What one run may use."""

    wall_s: float
    cpu_s: float
    memory_bytes: int  # of all its processes together; address space too where the language allows
    output_bytes: int  # standard output and error together
    processes: int = 64
    file_bytes: int = 32 * 2**20  # a single file
    scratch_bytes: int = 64 * 2**20  # all files together, in each of /answer and /tmp


@dataclass(frozen=True, slots=True, kw_only=True)
class Job:
    """One program to run on files that nobody trusts."""

    argv: tuple[str, ...]
    limits: RunLimits
    files: Mapping[str, str | bytes]  # name -> content, laid read-only into the working folder; bytes may be run
    stdin: bytes = b""
    mounts: tuple[str, ...] = ()  # host folders it needs to see, read-only
    env: dict[str, str] = field(default_factory=dict)
    bound_address_space: bool = True  # runtimes that reserve address space far beyond use: False
    result_fd: bool = True  # open a private descriptor for results; "{fd}" in argv becomes its number


@dataclass(frozen=True, slots=True, kw_only=True)
class RunReport:
    """How a run ended."""

    exit_status: int | None  # 128 + N after signal N; None when it was stopped from outside
    stdout: bytes
    stderr: bytes
    results: bytes  # what came over the private descriptor
    wall_s: float
    cpu_s: float = 0.0  # processor time of all its processes; 0 when it was stopped from outside
    peak_bytes: int = 0  # of all its processes together where a control group tells it, else of the largest
    timed_out: bool = False
    over_limit: str | None = None  # which limit, with its figure
    rig_fault: str | None = None  # isolation itself failed


@dataclass(frozen=True, slots=True, kw_only=True)
class Staged:
    """A job's files laid out on the host for an isolation to bring in."""

    folder: Path
    names: tuple[str, ...]
    gate: tuple[int, int] | None = (
        None  # descriptors: the run waits for a byte on the first, tells its pid on the second
    )
    group: Path | None = None  # file that lets the run's first process into a control group
