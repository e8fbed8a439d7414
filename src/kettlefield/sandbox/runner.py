"""Run one job in isolation: feed it, watch its limits, collect its output, leave nothing of it alive."""

import contextlib
import ctypes
import functools
import itertools
import os
import random
import resource
import selectors
import shutil
import signal
import subprocess
import tempfile
import threading
import time
from functools import cache
from pathlib import Path

import msgspec

from kettlefield.core.errors import RigError
from kettlefield.core.plaintext import visible
from kettlefield.core.units import format_bytes
from kettlefield.rig.processes import process_tree, proportional_bytes, resident_bytes
from kettlefield.rig.waits import ProcessorWaits
from kettlefield.sandbox.isolation import FIRST_SANDBOX_UID, Bubblewrap, Isolation, UserNamespaces
from kettlefield.sandbox.job import Job, RunLimits, RunReport, Staged
from kettlefield.sandbox.limits import Gate, take_group

SANDBOX_UIDS = 4000  # taken in turn
PIPE_BYTES = 32 * 2**10  # well below what a pipe holds before a writer must wait
LOOK_S = 0.05  # often enough to stop a memory bomb before it hurts, seldom enough to cost nothing
MOST_TIMES_LIMIT = 4.0  # of its time limit: how long a run may take at the most, waiting for a processor included
_STARTS = 3  # a host under load refuses a process now and then: the next try, under another user id, gets it
_PR_SET_CHILD_SUBREAPER = 36  # linux/prctl.h
# exit statuses that the shell's convention gives to a limit's signal
_SIGXCPU_STATUS = 128 + signal.SIGXCPU
_SIGKILL_STATUS = 128 + signal.SIGKILL
_SIGXFSZ_STATUS = 128 + signal.SIGXFSZ


class Sandbox:
    """Runs jobs in one isolation, several threads at once; each run has a user id of its own."""

    def __init__(self, isolation: Isolation) -> None:
        self.isolation = isolation
        # the kernel counts processes by user id: campaigns side by side begin at different ones
        uids = range(FIRST_SANDBOX_UID, FIRST_SANDBOX_UID + SANDBOX_UIDS)
        begin = random.randrange(SANDBOX_UIDS)
        self._uids = itertools.cycle((*uids[begin:], *uids[:begin]))  # one step of it is atomic: threads share it

    def run(self, job: Job) -> RunReport:
        """Run a job within its limits; everything that it started is dead when this returns.

        Raises
        ------
        RigError
            The host has no room or no right to stage the files or start the isolation.
        """
        try:
            folder = Path(tempfile.mkdtemp(prefix="kettlefield-"))
        except OSError as err:
            raise RigError(f"cannot stage a run ({err.strerror})", tempfile.gettempdir(), "Make room there.") from err
        try:
            for _ in range(_STARTS):
                report = self._once(job, folder)
                if report.rig_fault is None:
                    return report
            # a program may print what the isolation would: it is believed when another one does not start either
            is_forged = self._once(_finds_its_program(job), folder).exit_status == 0
            return msgspec.structs.replace(report, rig_fault=None) if is_forged else report
        finally:
            shutil.rmtree(folder, ignore_errors=True)

    def _once(self, job: Job, folder: Path) -> RunReport:
        return _Run(job, self.isolation, _stage(job, folder), next(self._uids)).report()


def _finds_its_program(job: Job) -> Job:
    """A job on the same files and limits that only looks whether the program is there."""
    argv = ("sh", "-c", 'command -v -- "$1"', "sh", job.argv[0])
    return msgspec.structs.replace(job, argv=argv, stdin=b"", result_fd=False)


def _stage(job: Job, folder: Path) -> Staged:
    folder.chmod(0o755)  # the run has a user id of its own and must be able to look in
    for name, content in job.files.items():
        path = folder / name
        try:
            path.parent.mkdir(parents=True, exist_ok=True)
            if isinstance(content, bytes):
                path.write_bytes(content)
            else:
                path.write_text(content, encoding="utf-8", errors="surrogatepass", newline="")
            path.chmod(0o755 if isinstance(content, bytes) else 0o644)
        except OSError as err:
            where = visible(name, keep_lines=False)
            raise RigError(f"cannot stage a file ({err.strerror})", where, "Make room, or check its name.") from err
    return Staged(folder=folder, names=tuple(job.files))


class _Run:
    """One process tree from start to end."""

    def __init__(self, job: Job, isolation: Isolation, staged: Staged, uid: int) -> None:
        self.job = job
        self.streams: dict[str, bytearray] = {
            "stdout": bytearray(),
            "stderr": bytearray(),
            "results": bytearray(),
        }
        self.over_limit: str | None = None
        self.timed_out = False
        self.usages: list[resource.struct_rusage] = []
        _adopt_orphans()
        (stdin_read, self.stdin), (stdout, stdout_write), (stderr, stderr_write), (results, results_write) = (
            _pipe_for(uid) for _ in range(4)
        )
        self.sources = {stdout: "stdout", stderr: "stderr", results: "results"}
        theirs = [stdin_read, stdout_write, stderr_write, results_write]
        argv = tuple(part.replace("{fd}", str(results_write)) for part in job.argv) if job.result_fd else job.argv
        # memory of files in the run's own folders counts too
        self.group = take_group(job.limits.memory_bytes + 2 * job.limits.scratch_bytes)
        gate = Gate() if isolation.gated else None
        staged = msgspec.structs.replace(
            staged,
            gate=gate.theirs if gate is not None else None,
            group=self.group.door if self.group is not None else None,
        )
        self.started_s = time.monotonic()
        self.waits = ProcessorWaits()
        try:
            self.process = subprocess.Popen(
                isolation.command(msgspec.structs.replace(job, argv=argv), staged, uid),
                stdin=stdin_read,
                stdout=stdout_write,
                stderr=stderr_write,
                pass_fds=(*((results_write,) if job.result_fd else ()), *(gate.theirs if gate is not None else ())),
                start_new_session=True,
                cwd=staged.folder,
            )
        except OSError as err:
            for descriptor in (self.stdin, *self.sources):
                os.close(descriptor)
            if gate is not None:
                gate.abandon()
            raise RigError(f"cannot start a run ({err})", isolation.name, "Check that it is installed.") from err
        finally:
            for descriptor in theirs:
                os.close(descriptor)
        self.inner_pid = gate.open(job, self.group) if gate is not None else None

    def report(self) -> RunReport:
        feeder = None
        if len(self.job.stdin) <= PIPE_BYTES:
            self._feed()  # the pipe takes it whole
        else:
            feeder = threading.Thread(target=self._feed, daemon=True)
            feeder.start()
        try:
            self._collect()
        finally:
            self._kill()
            self._reap_inner()
            if feeder is not None:
                feeder.join()
            for descriptor in self.sources:
                os.close(descriptor)
            out_of_memory = self.group is not None and self.group.was_exceeded()
            peak_bytes = self.group.peak_bytes() if self.group is not None else None
        if out_of_memory:
            self.over_limit = self.over_limit or f"more memory than {format_bytes(self.job.limits.memory_bytes)}"
        status = self.process.returncode
        status = 128 - status if status < 0 else status
        used_up = time.monotonic() - self.started_s >= self.job.limits.cpu_s
        # a runtime that catches the soft limit's signal, as Go's does, is killed at the hard one
        if status == _SIGXCPU_STATUS or (status == _SIGKILL_STATUS and used_up):
            self.timed_out = True
        elif status == _SIGXFSZ_STATUS:
            self.over_limit = self.over_limit or f"a file larger than {format_bytes(self.job.limits.file_bytes)}"
        return RunReport(
            exit_status=None if self.timed_out or self.over_limit else status,
            stdout=bytes(self.streams["stdout"]),
            stderr=bytes(self.streams["stderr"]),
            results=bytes(self.streams["results"]),
            wall_s=time.monotonic() - self.started_s,
            waited_s=self.waits.waited_s,
            cpu_s=sum(usage.ru_utime + usage.ru_stime for usage in self.usages),
            # the kernel's figure for a process is never below what ours held when it started it
            peak_bytes=peak_bytes or max((usage.ru_maxrss * 1024 for usage in self.usages), default=0),
            timed_out=self.timed_out,
            over_limit=self.over_limit,
            rig_fault=self._isolation_fault(status),
        )

    def _feed(self) -> None:
        # the run may end, or close its input, before it has read all
        with contextlib.suppress(OSError), os.fdopen(self.stdin, "wb", buffering=0) as pipe:
            left = memoryview(self.job.stdin)
            while left:
                left = left[pipe.write(left) :]

    def _collect(self) -> None:
        with selectors.DefaultSelector() as selector:
            for descriptor, name in self.sources.items():
                selector.register(descriptor, selectors.EVENT_READ, name)
            next_look_s = self.started_s + LOOK_S
            while selector.get_map():
                now_s = time.monotonic()
                if now_s >= next_look_s:
                    next_look_s = now_s + LOOK_S
                    if self._is_over_time_or_memory():
                        return
                for key, _ in selector.select(max(0.0, next_look_s - now_s)):
                    self._read(selector, key)
                if self._is_over_output():
                    return
        self._wait_for_end()

    def _read(self, selector: selectors.BaseSelector, key: selectors.SelectorKey) -> None:
        chunk = os.read(key.fd, 65536)
        if not chunk:
            selector.unregister(key.fileobj)
        self.streams[key.data] += chunk

    def _wait_for_end(self) -> None:
        """All pipes are closed: the run has ended, or continues in silence."""
        with selectors.DefaultSelector() as selector:
            # the kernel signals the end: waiting with a timeout would poll, and cost a millisecond or two
            ended = os.pidfd_open(self.process.pid)
            try:
                selector.register(ended, selectors.EVENT_READ)
                while not selector.select(LOOK_S):
                    if self._is_over_time_or_memory():
                        return
            finally:
                os.close(ended)

    def _is_over_output(self) -> bool:
        if len(self.streams["stdout"]) + len(self.streams["stderr"]) > self.job.limits.output_bytes:
            self.over_limit = f"more output than {format_bytes(self.job.limits.output_bytes)}"
        elif len(self.streams["results"]) > self.job.limits.results_bytes:
            self.over_limit = f"results larger than {format_bytes(self.job.limits.results_bytes)}"
        return self.over_limit is not None

    def _is_over_time_or_memory(self) -> bool:
        """Whether a limit is met. Time in which the run waited for a processor is the host's, up to a bound."""
        pids, limits = process_tree(self.process.pid), self.job.limits
        self.waits.look(pids)
        allowed_s = min(limits.wall_s + self.waits.waited_s, MOST_TIMES_LIMIT * limits.wall_s)
        self.timed_out = time.monotonic() - self.started_s >= allowed_s
        most = limits.memory_bytes
        # resident sizes count shared pages once a process: cheap, but only the first of two questions
        if sum(map(resident_bytes, pids)) > most and sum(map(proportional_bytes, pids)) > most:
            self.over_limit = f"more memory than {format_bytes(most)}"
        return self.timed_out or self.over_limit is not None

    def _kill(self) -> None:
        """Kill the tree; in a process-id namespace the rest dies with its first process."""
        if self._has_ended():
            # it ended by itself and took its namespace with it; without one, what is left of its group is ended here
            with contextlib.suppress(ProcessLookupError, PermissionError):
                os.killpg(self.process.pid, signal.SIGKILL)
            return
        for pid in reversed(process_tree(self.process.pid)):
            with contextlib.suppress(ProcessLookupError, PermissionError):
                os.kill(pid, signal.SIGKILL)
        self.process.wait()

    def _has_ended(self) -> bool:
        """Whether the run ended by itself; the kernel then says what it and all below it used."""
        pid, status, usage = os.wait4(self.process.pid, os.WNOHANG)
        if pid == 0:
            return False
        self.process.returncode = os.waitstatus_to_exitcode(status)
        self.usages.append(usage)
        return True

    def _reap_inner(self) -> None:
        """Wait for the first process of the namespace: when it is gone, all that the run started is.

        The isolation may end without having waited for it; it is ours then, and brings what all below it used.
        """
        if self.inner_pid is not None:
            with contextlib.suppress(ChildProcessError):
                self.usages.append(os.wait4(self.inner_pid, 0)[2])

    def _isolation_fault(self, status: int) -> str | None:
        """The isolation's own failure, to judge by who speaks on standard error; the program may speak so too."""
        first = bytes(self.streams["stderr"][:500]).decode(errors="replace").split("\n", 1)[0]
        if status in {1, 125, 126, 127} and not self.streams["results"]:
            for speaker in ("bwrap: ", "unshare: ", "setpriv: ", "prlimit: ", "mount: ", "pivot_root: "):
                if first.startswith(speaker):
                    return first
        return None


@functools.cache
def _adopt_orphans() -> None:
    """Make processes whose parent ends ours instead of the system's, so that what they used can be asked for."""
    ctypes.CDLL(None).prctl(_PR_SET_CHILD_SUBREAPER, 1, 0, 0, 0)


def _pipe_for(uid: int) -> tuple[int, int]:
    """A pipe that a run under its own user id may also open by name, as /dev/stdin or /dev/stdout."""
    read, write = os.pipe()
    if os.geteuid() == 0:
        os.fchown(read, uid, uid)
    return read, write


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
        report = Sandbox(isolation).run(Job(argv=("true",), limits=limits, files={}, result_fd=False))
    except (OSError, subprocess.SubprocessError, RigError) as err:
        return str(err)
    if report.exit_status == 0:
        return None
    lines = report.stderr.decode(errors="replace").strip().splitlines()
    return lines[-1] if lines else "it ends at once"
