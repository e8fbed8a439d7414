"""A fleet on one machine, for the demo: Dask's scheduler and workers as they are started on several."""

import contextlib
import json
import os
import subprocess
import sys
import time
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path

from kettlefield.core.errors import RigError
from kettlefield.fleet.scheduler import EXCLUSIVE, GRADER, connected, workers_of

READY_WITHIN_S = 90.0
_DASK = (sys.executable, "-m", "dask")
_HERE = "127.0.0.1"


@contextlib.contextmanager
def private_fleet(folder: Path, rigs: Sequence[str], graders: int, say: Callable[[str], None]) -> Iterator[str]:
    """A scheduler with a worker for each rig and some that grade; the scheduler's address. All end with the block.

    Parameters
    ----------
    folder : Path
        In which the workers are started, and their words are kept.
    rigs : sequence of str
        The rigs' labels.
    graders : int
        Replies that are graded at once, by one worker; 0: none is started.
    say : callable
        Is told what is started, in the words in which one starts it on several machines.

    Raises
    ------
    RigError
        They do not start.
    """
    logs = folder.resolve() / "logs"
    logs.mkdir(exist_ok=True)
    known = logs / "scheduler.json"
    known.unlink(missing_ok=True)
    with contextlib.ExitStack() as running:
        words = ("scheduler", "--host", _HERE, "--port", "0", "--no-dashboard", "--scheduler-file", str(known))
        say("dask scheduler")
        scheduler = running.enter_context(_started(folder, logs / "scheduler.log", words))
        address = _address(known, scheduler)
        resources = {rig: f"{EXCLUSIVE}=1 {rig}=1" for rig in rigs}
        threads = dict.fromkeys(rigs, 1)
        if graders:
            resources["mill"], threads["mill"] = f"{GRADER}={graders}", graders
        for name, has in resources.items():
            words = ("worker", address, "--nthreads", str(threads[name]), "--resources", has, "--name", name)
            say(f'dask worker {address} --nthreads {threads[name]} --resources "{has}" --name {name}')
            own = ("--no-dashboard", "--host", _HERE, "--local-directory", str(logs))
            running.enter_context(_started(folder, logs / f"worker-{name}.log", (*words, *own)))
        _wait_for(address, len(resources))
        yield address


@contextlib.contextmanager
def _started(folder: Path, log: Path, words: Sequence[str]) -> Iterator["subprocess.Popen[bytes]"]:
    with log.open("w") as out:
        process = subprocess.Popen(
            [*_DASK, *words], cwd=folder, stdin=subprocess.DEVNULL, stdout=out, stderr=out, start_new_session=True
        )
    try:
        yield process
    finally:
        process.terminate()
        try:
            process.wait(timeout=10)
        except subprocess.TimeoutExpired:
            with contextlib.suppress(ProcessLookupError):
                os.killpg(process.pid, 9)
            process.wait()


def _address(known: Path, scheduler: "subprocess.Popen[bytes]") -> str:
    until_s = time.monotonic() + READY_WITHIN_S
    while time.monotonic() < until_s and scheduler.poll() is None:
        with contextlib.suppress(OSError, ValueError, KeyError):
            return str(json.loads(known.read_text())["address"])
        time.sleep(0.1)
    raise RigError("Dask's scheduler does not start", str(known.with_name("scheduler.log")), "Its words are there.")


def _wait_for(address: str, workers: int) -> None:
    with connected(address) as client:
        until_s = time.monotonic() + READY_WITHIN_S
        while len(workers_of(client)) < workers:
            if time.monotonic() > until_s:
                raise RigError("Dask's workers do not start", address, "Their words are in the demo's folder, in logs.")
            time.sleep(0.2)
