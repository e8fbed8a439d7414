"""What is run in isolation, within which limits, which files it may change, and what came of it.

What is staged for a run is read-only, so such files are copied in by a small shell around the program; what
it leaves comes out as a tar archive over the private descriptor, behind a line that carries the nonce.
"""

import io
import tarfile
from collections.abc import Mapping
from pathlib import Path

import msgspec


class RunLimits(msgspec.Struct, frozen=True, kw_only=True):
    """What one run may use."""

    wall_s: float  # without what it waits for a processor, as long as that is not several times the limit
    cpu_s: float
    memory_bytes: int  # of all its processes together; address space too where the language allows
    output_bytes: int  # standard output and error together
    processes: int = 64
    file_bytes: int = 32 * 2**20  # a single file
    scratch_bytes: int = 64 * 2**20  # all files together, in each of /answer and /tmp
    results_bytes: int = 48 * 2**20  # over the private descriptor; a program that was built comes this way too


class Job(msgspec.Struct, frozen=True, kw_only=True):
    """One program to run on files that nobody trusts."""

    argv: tuple[str, ...]
    limits: RunLimits
    files: Mapping[str, str | bytes]  # name -> content, laid read-only into the working folder; bytes may be run
    stdin: bytes = b""
    mounts: tuple[str, ...] = ()  # host folders it needs to see, read-only
    env: dict[str, str] = msgspec.field(default_factory=dict)
    bound_address_space: bool = True  # runtimes that reserve address space far beyond use: False
    result_fd: bool = True  # open a private descriptor for results; "{fd}" in argv becomes its number


class RunReport(msgspec.Struct, frozen=True, kw_only=True):
    """How a run ended."""

    exit_status: int | None  # 128 + N after signal N; None when it was stopped from outside
    stdout: bytes
    stderr: bytes
    results: bytes  # what came over the private descriptor
    wall_s: float
    waited_s: float = 0.0  # of it for a processor, as far as looks many times a second have seen
    cpu_s: float = 0.0  # processor time of all its processes; 0 when it was stopped from outside
    peak_bytes: int = 0  # of all its processes together where a control group tells it, else of the largest
    timed_out: bool = False
    over_limit: str | None = None  # which limit, with its figure
    rig_fault: str | None = None  # isolation itself failed


class Staged(msgspec.Struct, frozen=True, kw_only=True):
    """A job's files laid out on the host for an isolation to bring in."""

    folder: Path
    names: tuple[str, ...]
    gate: tuple[int, int] | None = (
        None  # descriptors: the run waits for a byte on the first, tells its pid on the second
    )
    group: Path | None = None  # file that lets the run's first process into a control group


_INPUTS = ".inputs"
MAX_EXPORT_BYTES = 8 * 2**20  # of one file that a program leaves; more is refused unread
# the names to bring out come first, then the program's own words; a file that is not there is left out by tar
_WRAPPER = f"""fd=$1 nonce=$2 count=$3; shift 3
names=("${{@:1:$count}}"); shift "$count"
[ -d {_INPUTS} ] && cp -r {_INPUTS}/. .
"$@"
status=$?
if [ "$count" -gt 0 ]; then
  printf '\\n%s files\\n' "$nonce" >&"$fd"
  tar -cf - --no-recursion -- "${{names[@]}}" >&"$fd" 2>/dev/null
fi
exit $status
"""


def with_files(job: Job, nonce: str, inputs: Mapping[str, str], exports: tuple[str, ...]) -> Job:
    """The job with files that it may change, and the names of those to bring out."""
    if not inputs and not exports:
        return job
    staged = {f"{_INPUTS}/{name}": text for name, text in inputs.items()}
    wrapped = ("bash", "-c", _WRAPPER, "bash", "{fd}", nonce, str(len(exports)), *exports, *job.argv)
    return msgspec.structs.replace(job, argv=wrapped, files={**job.files, **staged}, result_fd=True)


def split_exports(results: bytes, nonce: str) -> tuple[bytes, dict[str, bytes]]:
    """What came over the descriptor before the archive, and the plain files in it.

    Links, devices and folders in the archive are passed over, and so is what is larger than
    ``MAX_EXPORT_BYTES``: nothing is ever unpacked to disk.
    """
    head, mark, archive = results.partition(f"\n{nonce} files\n".encode())
    exports: dict[str, bytes] = {}
    if mark:
        try:
            with tarfile.open(fileobj=io.BytesIO(archive), mode="r:") as tar:
                for member in tar:
                    if member.isreg() and member.size <= MAX_EXPORT_BYTES:
                        opened = tar.extractfile(member)
                        exports[member.name] = opened.read() if opened is not None else b""
        except (tarfile.TarError, EOFError, ValueError):
            return head, exports
    return head, exports
