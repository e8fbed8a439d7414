"""What a worker of a fleet does: it says what its machine is, and carries out its part of a campaign.

Only names of these functions and plain data cross the network. The worker's present folder is the one that relative
paths of the plan are relative to.
"""

import hashlib
import os
import shutil
import signal
import subprocess
import sys
import threading
from collections import deque
from collections.abc import Callable
from pathlib import Path
from typing import Any

import msgspec

from kettlefield import __version__
from kettlefield.core.errors import KettlefieldError
from kettlefield.plan.own_rig import on_rig, own_rig
from kettlefield.plan.plan import read_plan
from kettlefield.plan.suite_selection import read_asked
from kettlefield.sandbox.runner import available_isolation
from kettlefield.weights.digests import digest_of_files
from kettlefield.weights.formats import files_of

TOPIC = "kettlefield"  # of the events that workers send while they work
_LAST_LINES = 6  # of what a part printed, for whoever asks why it failed
_under_way: dict[str, "subprocess.Popen[str]"] = {}  # parts that run in this worker, by their names
_stopped = threading.Event()


class Question(msgspec.Struct, frozen=True, kw_only=True):
    """What a worker is asked before anything runs."""

    plan: str  # the plan's text
    labels: dict[str, tuple[str, ...]]  # worker -> what it was labelled with
    unsafe: bool


class Answer(msgspec.Struct, frozen=True, kw_only=True):
    """What a worker says of its machine."""

    version: str
    fault: str = ""  # why it cannot take part; empty: it can
    rig: str = ""
    suite_digest: str = ""
    candidates: tuple[str, ...] = ()  # that run there
    left_out: tuple[str, ...] = ()
    isolation: str = ""


class OwnWeights(msgspec.Struct, frozen=True, kw_only=True):
    """Of which rig of which plan the weights are asked about."""

    plan: str
    rig: str


class Part(msgspec.Struct, frozen=True, kw_only=True):
    """One part of a campaign: some candidates on one rig."""

    name: str
    plan: str
    rig: str
    only: str  # a pattern of candidates' names
    options: tuple[str, ...]  # further words for the command
    graders: bool = False  # whether the fleet has workers that grade


class Ended(msgspec.Struct, frozen=True, kw_only=True):
    """How a part ended."""

    name: str
    code: int
    last_words: str


class Line(msgspec.Struct, frozen=True, kw_only=True):
    """A line that a part printed while it ran."""

    rig: str
    text: str


def look(data: bytes, dask_worker: Any = None) -> bytes:
    """Say whether this machine can take part, and as which rig; nothing is started. Dask fills the worker in."""
    _stopped.clear()
    question = msgspec.json.decode(data, type=Question)
    try:
        plan = read_plan(_written(question.plan))
        name = own_rig(plan, None, question.labels.get(str(dask_worker.address), ()))
        here = on_rig(plan, name)
        asked = read_asked(here)
        isolation = "none" if question.unsafe else available_isolation().name
    except (KettlefieldError, OSError) as err:
        return msgspec.json.encode(Answer(version=__version__, fault=str(err)))
    lacking = next(iter(asked.not_measured.values()), "")
    return msgspec.json.encode(
        Answer(
            version=__version__,
            fault=f"it lacks what exercises need: {lacking}" if lacking else "",
            rig=name,
            suite_digest=asked.digest,
            candidates=tuple(one.name for one in here.candidates),
            left_out=here.left_out,
            isolation=isolation,
        )
    )


def digests(data: bytes) -> bytes:
    """The SHA-256 of the weights of every candidate of a rig, by its name; the machine remembers each."""
    own = msgspec.json.decode(data, type=OwnWeights)
    here = on_rig(read_plan(_written(own.plan)), own.rig)
    found = {one.name: digest_of_files(files_of(one.weights)) for one in here.candidates if one.weights is not None}
    return msgspec.json.encode(found)


def carry_out(data: bytes, say: Callable[[str, bytes], None] | None = None) -> bytes:
    """Carry out one part; every line that it prints is sent on as it comes.

    It runs as a process of its own: a thread of a worker can neither be stopped nor hold children in groups of their
    own. It ends with the worker, however that ends.
    """
    part = msgspec.json.decode(data, type=Part)
    send = say or _log_event
    # the kernel ends it with the worker, so that no server is left running
    ending = ("setpriv", "--pdeathsig", "TERM", "--") if shutil.which("setpriv") else ()
    spread = ("--graders", _scheduler()) if part.graders else ()
    words = [*ending, sys.executable, "-m", "kettlefield", "qualify", str(_written(part.plan)), "--rig", part.rig]
    process = subprocess.Popen(
        [*words, "--only", part.only, *spread, *part.options],
        stdin=subprocess.DEVNULL,
        stdout=subprocess.DEVNULL,
        stderr=subprocess.PIPE,
        text=True,
        errors="replace",
    )
    _under_way[part.name] = process
    last: deque[str] = deque(maxlen=_LAST_LINES)
    try:
        assert process.stderr is not None  # noqa: S101 - it is a pipe
        for line in process.stderr:
            last.append(line.rstrip("\n"))
            send(TOPIC, msgspec.json.encode(Line(rig=part.rig, text=last[-1])))
        code = process.wait()
    finally:
        _under_way.pop(part.name, None)
    if code < 0 and not _stopped.is_set():
        raise RuntimeError(f"{part.name}: its process was killed by signal {-code}")  # the scheduler places it again
    return msgspec.json.encode(Ended(name=part.name, code=code, last_words="\n".join(last)))


def stop() -> int:
    """Stop what runs in this worker as Ctrl-C does: servers end, finished trials are kept. How many parts that were."""
    _stopped.set()
    running = list(_under_way.values())
    for process in running:
        process.send_signal(signal.SIGINT)
    return len(running)


def _written(text: str) -> Path:
    """The plan's text as a file in the worker's folder."""
    path = Path.cwd() / f"plan-{hashlib.sha256(text.encode()).hexdigest()[:12]}.toml"
    if not path.exists() or path.read_text(encoding="utf-8") != text:
        new = path.with_suffix(f".{os.getpid()}")
        new.write_text(text, encoding="utf-8")
        new.replace(path)
    return path


def _scheduler() -> str:
    """The scheduler's address, as this worker knows it."""
    from distributed import get_worker  # noqa: PLC0415 - only a worker has it

    return str(get_worker().scheduler.address)


def _log_event(topic: str, data: bytes) -> None:
    from distributed import get_worker  # noqa: PLC0415 - only a worker has it

    get_worker().log_event(topic, data)
