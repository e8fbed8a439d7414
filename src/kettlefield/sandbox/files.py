"""Files that a program may change and leave behind: laid in before it starts, brought out when it has ended.

What is staged for a run is read-only, so such files are copied in by a small shell around the program; what
it leaves comes out as a tar archive over the private descriptor, behind a line that carries the nonce.
"""

import io
import tarfile
from collections.abc import Mapping
from dataclasses import replace

from kettlefield.sandbox.job import Job

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
    return replace(job, argv=wrapped, files={**job.files, **staged}, result_fd=True)


def split_exports(results: bytes, nonce: str) -> tuple[bytes, dict[str, bytes]]:
    """What came over the descriptor before the archive, and the plain files in it.

    Links, devices and folders in the archive are passed over, and so is what is larger than
    ``MAX_EXPORT_BYTES``: nothing is ever unpacked to disk.
    """
    head, mark, archive = results.partition(f"\n{nonce} files\n".encode())
    found: dict[str, bytes] = {}
    if mark:
        try:
            with tarfile.open(fileobj=io.BytesIO(archive), mode="r:") as tar:
                for member in tar:
                    if member.isreg() and member.size <= MAX_EXPORT_BYTES:
                        opened = tar.extractfile(member)
                        found[member.name] = opened.read() if opened is not None else b""
        except (tarfile.TarError, EOFError, ValueError):
            return head, found
    return head, found
