"""A command run in a set of files: in isolation, in a copy that it may change and that is thrown away."""

import io
import re
import secrets
import shlex
import tarfile
from collections.abc import Mapping
from pathlib import Path

import msgspec

from kettlefield.core.errors import RigError
from kettlefield.languages.all_languages import LANGUAGES, find_toolchain
from kettlefield.languages.language import Missing
from kettlefield.sandbox.job import Job, RunLimits, RunReport, split_exports
from kettlefield.sandbox.runner import Sandbox

_LANGUAGE = re.compile(r"\{(\w+)\}")
_STAGED = ".files.tar"
# unpacked by us, so that the command may change every file; what it leaves comes out after its own words
_LINE = """fd=$1 nonce=$2 count=$3; shift 3
tar -xf .files.tar || exit 125
names=("${@:1:$count}"); shift "$count"
bash -c "$1"
status=$?
if [ "$count" -gt 0 ]; then
  printf '\\n%s files\\n' "$nonce" >&"$fd"
  tar -cf - --no-recursion -- "${names[@]}" >&"$fd" 2>/dev/null
fi
exit $status
"""
MORE_PROCESSES, SCRATCH_BYTES = 128, 512 * 2**20  # a compiler or a runner of tests starts many


class CommandRun(msgspec.Struct, frozen=True, kw_only=True):
    """What came of a command."""

    report: RunReport
    writes: dict[str, bytes]


def languages_in(line: str) -> tuple[str, ...]:
    """The languages whose programs a line runs: ``{python}`` stands for Python's."""
    return tuple(name for name in dict.fromkeys(_LANGUAGE.findall(line)) if name in LANGUAGES)


def shown_line(line: str) -> str:
    """A line as a model is shown it: each program by its plain name."""
    return _LANGUAGE.sub(lambda match: _program_name(match[1]) if match[1] in LANGUAGES else match[0], line)


def _program_name(language: str) -> str:
    tool = find_toolchain(language)
    return language if isinstance(tool, Missing) else Path(tool.program).name


def run_command(
    line: str,
    files: Mapping[str, str],
    limits: RunLimits,
    sandbox: Sandbox,
    *,
    stdin: str = "",
    exports: tuple[str, ...] = (),
    needs: tuple[str, ...] = (),
    joined: bool = False,
) -> CommandRun:
    """Run a bash line in a fresh copy of files.

    Parameters
    ----------
    line : str
        With the programs of languages in braces.
    files : mapping
        Path to text.
    limits : RunLimits
        What it may use.
    sandbox : Sandbox
        Where it runs.
    stdin : str
        Its standard input.
    exports : tuple of str
        Files that are brought out when it has ended.
    needs : tuple of str
        Further languages whose programs it runs by other ways.
    joined : bool
        Standard error goes where standard output goes, as at a terminal.

    Raises
    ------
    RigError
        A language is missing, or the host has no room.
    """
    mounts: list[str] = []
    programs: dict[str, str] = {}
    for name in dict.fromkeys((*languages_in(line), *needs)):
        tool = find_toolchain(name)
        if isinstance(tool, Missing):
            raise RigError(f"{name} is not installed", shorten_line(line), f"Install it: {tool.remedy}.")
        mounts += tool.mounts
        programs[name] = tool.program
    filled = _LANGUAGE.sub(lambda match: shlex.quote(programs[match[1]]) if match[1] in programs else match[0], line)
    nonce = secrets.token_hex(16)
    job = Job(
        argv=(
            *("bash", "-c", _LINE, "bash", "{fd}", nonce, str(len(exports)), *exports),
            f"exec 2>&1; {filled}" if joined else filled,
        ),
        limits=msgspec.structs.replace(limits, processes=MORE_PROCESSES, scratch_bytes=SCRATCH_BYTES),
        files={_STAGED: _archive(files)},
        stdin=stdin.encode(),
        mounts=tuple(dict.fromkeys(mounts)),
        bound_address_space=False,
    )
    report = sandbox.run(job)
    return CommandRun(report=report, writes=split_exports(report.results, nonce)[1])


def shorten_line(line: str) -> str:
    """A line for a message."""
    return line if len(line) <= 60 else f"{line[:57]}..."


def _archive(files: Mapping[str, str]) -> bytes:
    """Files as a tar archive; the same files give the same bytes."""
    packed = io.BytesIO()
    with tarfile.open(fileobj=packed, mode="w") as tar:
        for name, text in sorted(files.items()):
            data = text.encode("utf-8", "surrogatepass")
            member = tarfile.TarInfo(name)
            member.size, member.mode = len(data), 0o755 if text.startswith("#!") else 0o644
            tar.addfile(member, io.BytesIO(data))
    return packed.getvalue()
