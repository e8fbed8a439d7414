"""A PostgreSQL server of one's own, for the demo of a fleet and tests: on a socket in a folder, gone when it ends."""

import os
import pwd
import shutil
import subprocess
import tempfile
from pathlib import Path

from kettlefield.core.errors import InputError, RigError

SUPERUSER = "keeper"  # the database's; it needs no password on the socket
_USERS = ("postgres", "nobody")  # as whom it runs where we are root, which it refuses
_DEBIAN = Path("/usr/lib/postgresql")


def server_programs() -> Path | None:
    """The folder of the server's programs, which Debian keeps off the PATH; None: it is not installed."""
    known = shutil.which("pg_ctl")
    if known is not None and Path(known).resolve().with_name("initdb").exists():
        return Path(known).resolve().parent
    folders = [folder for folder in _DEBIAN.glob("*/bin") if (folder / "initdb").exists()]
    return max(folders, key=lambda path: int(path.parent.name), default=None)


class PrivateDatabase:
    """A server that is started and stopped at will.

    Parameters
    ----------
    durable : bool
        Every commit reaches the disk, as on a server that keeps something.

    Raises
    ------
    InputError
        PostgreSQL is not installed.
    RigError
        It does not start.
    """

    def __init__(self, *, durable: bool = False) -> None:
        programs = server_programs()
        if programs is None:
            hint = "Install it (on Debian: apt-get install postgresql); its own cluster is not needed."
            raise InputError("PostgreSQL's server is not installed here", "a database of one's own", hint)
        self._programs, self.durable = programs, durable
        # a socket's path has at most 107 characters, so it is not in the folder of whoever wants it
        self.folder = Path(tempfile.mkdtemp(prefix="kettle-pg-"))
        self._as_user: list[str] = []
        if os.getuid() == 0:
            user = next(pwd.getpwnam(name) for name in _USERS if name in {one.pw_name for one in pwd.getpwall()})
            os.chown(self.folder, user.pw_uid, user.pw_gid)
            self._as_user = ["setpriv", f"--reuid={user.pw_uid}", f"--regid={user.pw_gid}", "--clear-groups"]
        self.data = self.folder / "data"
        locale = ("-E", "UTF8", "--locale=C.UTF-8", "--locale-provider=icu", "--icu-locale=en")
        self._run("initdb", "-D", str(self.data), "-U", SUPERUSER, "-A", "trust", "--no-sync", *locale)
        self.start()

    def _run(self, program: str, *words: str) -> None:
        done = subprocess.run(
            [*self._as_user, str(self._programs / program), *words],
            stdin=subprocess.DEVNULL, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True, cwd=self.folder,
            check=False,
        )  # fmt: skip
        if done.returncode != 0:
            said = done.stdout.strip().splitlines()
            hint = "As root it is run by another user, who must be able to enter the temporary folder (TMPDIR)."
            raise RigError(f"{program} failed: {said[-1] if said else 'no word of it'}", str(self.data), hint)

    def start(self) -> None:
        """Start it, if it does not run."""
        if (self.data / "postmaster.pid").exists():
            return
        options = f"-k {self.folder} -c listen_addresses='' -c max_connections=200"
        options += "" if self.durable else " -c fsync=off"
        log = str(self.folder / "log")
        self._run("pg_ctl", "-D", str(self.data), "-o", options, "-w", "-l", log, "start")

    def stop(self, how: str = "immediate") -> None:
        """Stop it, without a word to those who are connected."""
        self._run("pg_ctl", "-D", str(self.data), "-m", how, "-w", "stop")

    def remove(self) -> None:
        """Stop it and take away all that it kept."""
        self.stop()
        shutil.rmtree(self.folder, ignore_errors=True)

    def url(self, name: str = "postgres", user: str = SUPERUSER) -> str:
        """The address of one of its databases, as a plan's ``record``."""
        return f"postgresql+psycopg://{user}@/{name}?host={self.folder}"
