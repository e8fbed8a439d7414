"""A PostgreSQL cluster of the tests' own: on a socket in a temporary folder, gone when they end."""

import os
import pwd
import shutil
import subprocess
import tempfile
import time
from pathlib import Path

import psycopg


def programs():
    """Where the server's programs are, which Debian keeps off the PATH; None: not installed."""
    known = shutil.which("pg_ctl")
    if known is not None and Path(known).resolve().with_name("initdb").exists():
        return Path(known).resolve().parent
    folders = sorted(Path("/usr/lib/postgresql").glob("*/bin"), key=lambda path: int(path.parent.name))
    return folders[-1] if folders else None


def wait_for(condition, within_s=240):
    """Until something is so; a busy machine takes its time."""
    until = time.monotonic() + within_s
    while not condition():
        assert time.monotonic() < until, "it never came"
        time.sleep(0.03)


class Cluster:
    """Started and stopped at will; its superuser needs no password, others do."""

    def __init__(self, *, durable=False):
        self.durable = durable  # with full syncs, as a server is run; the tests need none
        # a socket's path has at most 107 characters, and pytest's folders are long
        self.folder = Path(tempfile.mkdtemp(prefix="kettle-pg-"))
        self._as_user = []
        if os.getuid() == 0:  # the server refuses to run as root
            user = pwd.getpwnam("postgres")
            os.chown(self.folder, user.pw_uid, user.pw_gid)
            self._as_user = ["setpriv", f"--reuid={user.pw_uid}", f"--regid={user.pw_gid}", "--clear-groups"]
        self.data = self.folder / "data"
        self._run(
            "initdb",
            "-D",
            self.data,
            "-U",
            "keeper",
            "-A",
            "trust",
            "--no-sync",
            "-E",
            "UTF8",
            "--locale=C.UTF-8",
            "--locale-provider=icu",
            "--icu-locale=en",
        )
        self.start()
        self.sql("CREATE ROLE mate LOGIN PASSWORD 'low water'", "CREATE ROLE reader LOGIN")
        hba = self.data / "pg_hba.conf"
        hba.write_text("local all mate scram-sha-256\nlocal all all trust\n")
        self.sql("SELECT pg_reload_conf()")

    def _run(self, program, *words):
        done = subprocess.run(
            [*self._as_user, str(programs() / program), *map(str, words)],
            stdin=subprocess.DEVNULL, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True, cwd=self.folder,
            check=False,
        )  # fmt: skip
        assert done.returncode == 0, done.stdout

    def start(self):
        if (self.data / "postmaster.pid").exists():
            return
        options = f"-k {self.folder} -c listen_addresses='' -c max_connections=200"
        options += "" if self.durable else " -c fsync=off"
        self._run("pg_ctl", "-D", self.data, "-o", options, "-w", "-l", self.folder / "log", "start")

    def stop(self, how="immediate"):
        self._run("pg_ctl", "-D", self.data, "-m", how, "-w", "stop")

    def remove(self):
        self.stop()
        shutil.rmtree(self.folder, ignore_errors=True)

    def sql(self, *statements, database="postgres"):
        with psycopg.connect(host=str(self.folder), user="keeper", dbname=database, autocommit=True) as connection:
            for statement in statements:
                cursor = connection.execute(statement)
            return cursor.fetchall() if cursor.description else None

    def database(self, name):
        """A new, empty database; its URL."""
        self.sql(f'CREATE DATABASE "{name}"')
        return self.url(name)

    def url(self, name, user="keeper"):
        return f"postgresql+psycopg://{user}@/{name}?host={self.folder}"
