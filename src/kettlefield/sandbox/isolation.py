"""Isolation back ends: each turns a job into a command that can neither see nor reach what is not its own.

Inside, a run sees: /usr and its toolchain (read-only), its own files under /answer (read-only), scratch
space under /answer and /tmp (bounded, gone afterwards), a fresh /proc and a minimal /dev. It has no network,
not even loopback of the host, no other process, no environment of ours and no privilege.
"""

import os
import shlex
from pathlib import Path
from typing import Protocol

from kettlefield.sandbox.job import Job, Staged

# under root every run gets a user id of its own: limits on processes are not enforced for root itself
FIRST_SANDBOX_UID = 61_000
_SYSTEM_LINKS = ("bin", "sbin", "lib", "lib64", "lib32")
_SYSTEM_FILES = ("/etc/ld.so.cache", "/etc/alternatives")
_PATH = "/usr/local/bin:/usr/bin:/bin"


class Isolation(Protocol):
    """One way of shutting a program in."""

    name: str
    lacks: tuple[str, ...]  # promises it cannot keep, for the record
    gated: bool  # it waits at a gate, so that limits can be set on it from outside before the program starts

    def command(self, job: Job, staged: Staged, uid: int) -> list[str]:
        """The command that runs the job shut in."""
        ...


def _unprivileged(uid: int) -> list[str]:
    """Drop what privilege is left."""
    drop = ["setpriv", "--no-new-privs", "--bounding-set=-all", "--inh-caps=-all"]
    if os.geteuid() == 0:
        drop += [f"--reuid={uid}", f"--regid={uid}", "--clear-groups"]
    return [*drop, "--"]


def bounds_of(job: Job, *, processes: bool = True) -> dict[str, tuple[int, int]]:
    """Soft and hard limits on each process of a run, by the names that the kernel's resource limits have."""
    limits = job.limits
    cpu_s = max(1, round(limits.cpu_s))
    bounds = {
        "cpu": (cpu_s, cpu_s + 1),
        "fsize": (limits.file_bytes, limits.file_bytes),
        "nofile": (256, 256),
        "core": (0, 0),
    }
    if job.bound_address_space:
        bounds["as"] = (limits.memory_bytes, limits.memory_bytes)
    if processes:
        bounds["nproc"] = (limits.processes, limits.processes)
    return bounds


def _bounded(job: Job, *, processes: bool = True) -> list[str]:
    """The same limits set by a command in front of the program."""
    bounds = bounds_of(job, processes=processes).items()
    return ["prlimit", *(f"--{name}={soft}:{hard}" for name, (soft, hard) in bounds), "--"]


class Bubblewrap:
    """Isolation by bubblewrap: namespaces, a file system built from nothing, no privilege."""

    name = "bubblewrap"
    lacks: tuple[str, ...] = ()
    gated = True

    def command(self, job: Job, staged: Staged, uid: int) -> list[str]:
        """See ``Isolation``."""
        scratch = str(job.limits.scratch_bytes)
        args = [
            "bwrap",
            "--unshare-ipc",
            "--unshare-pid",
            "--unshare-net",
            "--unshare-uts",
            "--unshare-cgroup-try",
        ]
        if os.geteuid() != 0:
            args += ["--unshare-user", "--uid", "1000", "--gid", "1000"]
        if staged.gate is not None:
            args += ["--block-fd", str(staged.gate[0]), "--info-fd", str(staged.gate[1])]
        args += ["--die-with-parent", "--new-session", "--hostname", "kettlefield", "--clearenv"]
        for name, value in {"PATH": _PATH, "HOME": "/tmp", "LANG": "C.UTF-8", **job.env}.items():  # noqa: S108
            args += ["--setenv", name, value]
        args += ["--ro-bind", "/usr", "/usr"]
        for link in _SYSTEM_LINKS:
            host = Path("/", link)
            if host.is_symlink():
                args += ["--symlink", str(host.readlink()), str(host)]
            elif host.is_dir():
                args += ["--ro-bind", str(host), str(host)]
        args += ["--proc", "/proc", "--dev", "/dev"]
        args += ["--perms", "1777", "--size", scratch, "--tmpfs", "/dev/shm", "--remount-ro", "/dev"]  # noqa: S108
        args += ["--perms", "1777", "--size", scratch, "--tmpfs", "/tmp"]  # noqa: S108
        args += ["--perms", "1777", "--size", scratch, "--tmpfs", "/answer"]
        # after the scratch folders: what is needed may itself lie below /tmp
        for path in (*_SYSTEM_FILES, *job.mounts):
            args += [*self._parents(path), "--ro-bind-try", path, path]
        for name in staged.names:
            target = f"/answer/{name}"
            args += [*self._parents(target, below="/answer"), "--ro-bind", str(staged.folder / name), target]
        # an ordinary user's bubblewrap has dropped everything by itself
        drop = _unprivileged(uid) if os.geteuid() == 0 else []
        return [*args, "--remount-ro", "/", "--chdir", "/answer", "--", *drop, *job.argv]

    @staticmethod
    def _parents(path: str, below: str = "/") -> list[str]:
        """Make a target's parents first: made in passing they would be closed to the run's user id."""
        parents = [parent for parent in reversed(Path(path).parents) if parent.is_relative_to(below)][1:]
        return [arg for parent in parents for arg in ("--perms", "0755", "--dir", str(parent))]


class UserNamespaces:
    """The same by util-linux alone, where bubblewrap is not installed."""

    name = "user namespaces"
    lacks: tuple[str, ...] = ("nested user namespaces are not forbidden",)
    gated = False

    def command(self, job: Job, staged: Staged, uid: int) -> list[str]:
        """See ``Isolation``."""
        root = staged.folder / ".root"
        root.mkdir(exist_ok=True)
        user = [] if os.geteuid() == 0 else ["--user", "--map-root-user"]
        environment = {"PATH": _PATH, "HOME": "/tmp", "LANG": "C.UTF-8", **job.env}  # noqa: S108
        inner = [
            "env",
            "-i",
            *(f"{k}={v}" for k, v in environment.items()),
            *_unprivileged(uid),
            *_bounded(job),
            *job.argv,
        ]
        return [
            *("setpriv", "--pdeathsig", "KILL", "--"),
            *(
                "unshare",
                *user,
                "--mount",
                "--pid",
                "--net",
                "--ipc",
                "--uts",
                "--fork",
                "--kill-child=KILL",
                "--",
            ),
            *("sh", "-c", self._script(job, staged, root), "sh", *inner),
        ]

    def _script(self, job: Job, staged: Staged, root: Path) -> str:
        at, scratch = shlex.quote(str(root)), job.limits.scratch_bytes
        lines = [
            # before the host's files are out of sight
            f"echo 0 > {shlex.quote(str(staged.group))} || true" if staged.group else "true",
            "set -e",
            "mount --make-rprivate /",
            f"mount -t tmpfs -o size=1m,mode=755 none {at}",
            f"cd {at}",
        ]
        lines += ["mkdir -p usr proc dev tmp answer old etc"]
        lines += [self._bind("/usr", "usr")]
        for link in _SYSTEM_LINKS:
            host = Path("/", link)
            if host.is_symlink():
                lines += [f"ln -s {shlex.quote(str(host.readlink()))} {link}"]
            elif host.is_dir():
                lines += [f"mkdir {link}", self._bind(str(host), link)]
        for device in ("null", "zero", "full", "random", "urandom"):
            lines += [f"touch dev/{device}", f"mount --bind /dev/{device} dev/{device}"]
        lines += ["mkdir dev/shm", "ln -s /proc/self/fd dev/fd"]
        lines += [f"ln -s /proc/self/fd/{number} dev/std{name}" for number, name in enumerate(("in", "out", "err"))]
        for place in ("tmp", "answer", "dev/shm"):
            lines += [f"mount -t tmpfs -o size={scratch},mode=1777,nosuid,nodev none {place}"]
        for path in (*_SYSTEM_FILES, *job.mounts):
            if Path(path).exists():
                target = shlex.quote(path.lstrip("/"))
                make = f"mkdir -p {target}" if Path(path).is_dir() else f"touch {target}"
                lines += [make, self._bind(path, path.lstrip("/"))]
        for name in staged.names:
            target = f"answer/{name}"
            lines += [f"mkdir -p {shlex.quote(str(Path(target).parent))}", f"touch {shlex.quote(target)}"]
            lines += [self._bind(str(staged.folder / name), target)]
        lines += [
            "mount -t proc -o nosuid,nodev,noexec proc proc",
            "pivot_root . old",
            "cd /",
            "umount -l old",
        ]
        lines += ["mount -o remount,ro,bind /", "cd /answer"]
        # the shell stays as the first process: signals to that one are ignored, and what it leaves dies with it
        lines += ["set +e", '"$@"', "exit $?"]
        return "\n".join(lines)

    @staticmethod
    def _bind(source: str, target: str) -> str:
        place = shlex.quote(target)
        return f"mount --rbind {shlex.quote(source)} {place} && mount -o remount,bind,ro {place}"


class NoIsolation:
    """No isolation at all: only by explicit wish, and the record says so."""

    name = "none"
    lacks: tuple[str, ...] = ("network", "the user's files", "other processes", "disk space")
    gated = False

    def command(self, job: Job, staged: Staged, uid: int) -> list[str]:
        """See ``Isolation``; the runner starts it in the staged folder."""
        environment = {"PATH": _PATH, "LANG": "C.UTF-8", "HOME": str(staged.folder), **job.env}
        return ["env", "-i", *(f"{k}={v}" for k, v in environment.items()), *_bounded(job, processes=False), *job.argv]
