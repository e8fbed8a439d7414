"""What the tests share: the installed program, small campaigns on the stand-in, servers that answer as told."""

import contextlib
import io
import json
import os
import shutil
import socket
import subprocess
import sys
import threading
import time
from dataclasses import dataclass
from pathlib import Path

import pytest
from hypothesis import settings

from kettlefield.demo.private_database import server_programs
from kettlefield.demo.simulated_folder import CARD
from kettlefield.demo.simulated_models import MODELS, write_weights
from kettlefield.suite.loader import find_suite

# a busy machine is no fault of what is tested
settings.register_profile("busy machine", deadline=None)
settings.load_profile("busy machine")

BUILT_IN = find_suite("berthdesk", Path())
SMALL_SUITE = (
    *("berth-clashes", "buoy-gap-fill", "crew-rest-breach", "deck-lanes", "drift-set", "fare-quote", "lost-property"),
    *("manifest-merge", "radio-log-digest", "sailing-board", "tide-gate-windows", "weighbridge-tally"),
)
NEEDED = (
    "chromium",
    "chromium-headless-shell",
    "ssh-keygen",
    "bwrap",
    "unshare",
    "setpriv",
    "prlimit",
    "node",
    "gcc",
    "g++",
    "rustc",
    "javac",
    "go",
    "sqlite3",
)
STANDIN = [
    *("{python}", "-m", "kettlefield.demo", "--weights", "{weights}", "--card", "card", "--port", "{port}"),
    *("--context", "{context}", "--level", "{level}", "--concurrency", "4"),
]


def pytest_sessionstart(session):
    """Missing programs end the run: a test that cannot run must not look like one that passed."""
    missing = [name for name in NEEDED if shutil.which(name) is None]
    missing += ["initdb (PostgreSQL)"] if server_programs() is None else []
    if missing:
        pytest.exit(f"the tests need {', '.join(missing)}: run ./test.sh, which installs them", returncode=2)


@dataclass
class Done:
    """A finished run of the program."""

    code: int
    out: str
    err: str

    @property
    def json(self):
        return json.loads(self.out)


# rooms whose tests need no browser, compiler, isolation or server
FAST_ROOMS = {
    *("test_analysis", "test_decision", "test_ledger", "test_limits_and_grounds", "test_record_and_plan"),
    *("test_tables", "test_timing_and_memory", "test_weights"),
}


# files that take longest, longest first: begun last, one of them would run alone at the end
LONGEST = (
    *("test_demo", "test_qualify", "test_vet_and_help", "test_measuring", "test_before_anything_runs", "test_little"),
    *("test_hard_day", "test_turns_and_gaps", "test_suite_tools", "test_pages", "test_languages", "test_marking"),
)


def pytest_collection_modifyitems(items):
    """Mark the fast subset: core, and the rooms that need nothing but Python. Long files begin first."""
    rank = {name: place for place, name in enumerate(LONGEST)}
    items.sort(key=lambda item: rank.get(item.path.stem, len(rank)))
    for item in items:
        if item.path.parent.name == "core" or item.path.stem in FAST_ROOMS:
            item.add_marker(pytest.mark.fast)


@pytest.fixture(scope="session", autouse=True)
def _own_cache(tmp_path_factory):
    """The tests' digest cache is their own."""
    os.environ["XDG_CACHE_HOME"] = str(tmp_path_factory.mktemp("cache"))
    os.environ.pop("COLUMNS", None)  # some runners set it, and tables would fold


@pytest.fixture(scope="session")
def program():
    """The installed console script."""
    path = Path(sys.executable).with_name("kettlefield")
    assert path.exists(), "kettlefield is not installed beside this interpreter"
    return str(path)


@pytest.fixture(scope="session")
def run_cli(program):
    """Run the program and wait: ``run_cli("decide", record, cwd=...)``; a traceback fails the test."""

    def run(*args, cwd=None, env=None, prefix=(), within_s=280):
        done = subprocess.run(
            [*prefix, program, *map(str, args)],
            capture_output=True,
            text=True,
            cwd=cwd,
            env={**os.environ, **(env or {})},
            timeout=within_s,
            check=False,
        )
        assert "Traceback" not in done.stderr, done.stderr
        return Done(done.returncode, done.stdout, done.stderr)

    return run


@pytest.fixture
def run_main(monkeypatch):
    """As ``run_cli``, but in this process: for the many commands that only read, without starting Python for each."""
    from kettlefield.cli.main import main

    def run(*args, env=None):
        for name, value in (env or {}).items():
            monkeypatch.setenv(name, value)
        out, err = io.StringIO(), io.StringIO()
        with contextlib.redirect_stdout(out), contextlib.redirect_stderr(err):
            try:
                code = main([str(arg) for arg in args])
            except SystemExit as end:  # bad usage, or --help
                code = end.code
        return Done(int(code or 0), out.getvalue(), err.getvalue())

    return run


@pytest.fixture
def make_plan(tmp_path):
    """Write a plan for the stand-in and what it needs; returns the plan's path.

    Extra TOML goes in by table name; ``candidates`` are (level, extra lines) of one made-up model.
    """
    # a suite beside the plan comes before a built-in one of that name: campaigns here need not ask all of it
    for name in SMALL_SUITE:
        if not (tmp_path / "berthdesk" / name).exists():
            shutil.copytree(BUILT_IN / name, tmp_path / "berthdesk" / name)
    shutil.copy(BUILT_IN / "suite.toml", tmp_path / "berthdesk")

    def make(*, candidates=(("q4_k_m", ""),), model="kelpling-400m", command=None, tables=None, criteria="", head=""):
        (tmp_path / "card").mkdir(exist_ok=True)
        # a card fast enough that a test spends its time in the program, not in simulated waiting
        fast = CARD.replace("960e9", "4e12").replace("load_bytes_s = 3e9", "load_bytes_s = 100e9")
        (tmp_path / "card" / "card.toml").write_text(fast)
        (tmp_path / "weights").mkdir(exist_ok=True)
        parts = {
            # what is timed is simulated and waits: beside other tests it is not slowed down
            "rig": 'accelerator = "simulated:card"\ndisturbed_above = 64.0',
            "server": f"command = {json.dumps(command or STANDIN)}\ncontext = 2048\nready_within = '30 s'",
            "sampling": "seed = 11\nmax_tokens = 700",
            "speed": "requests = 0",
            "grading": "concurrent_trials = 4",
            **(tables or {}),
        }
        text = f'title = "Test"\nsuite = "berthdesk"\nrecord = "record.db"\n{head}\n'
        text += "".join(f"[{name}]\n{body}\n" for name, body in parts.items())
        for level, extra in candidates:
            path = tmp_path / "weights" / f"{model}-{level}.gguf"
            if not path.exists():
                write_weights(MODELS[model], level, path)
            text += f'[[candidate]]\nmodel = "{model}"\nlevel = "{level}"\nweights = "weights/{path.name}"\n{extra}\n'
        plan = tmp_path / "plan.toml"
        plan.write_text(text + criteria)
        return plan

    return make


@pytest.fixture
def scripted_server():
    """Start servers that answer every request with the given bytes; the url of each.

    ``pieces`` are sent one after the other with a pause between; ``delay_s`` is that pause; ``get`` answers
    what is asked by GET.
    """
    stops = []

    def start(*pieces, delay_s=0.005, get=None):
        listener = socket.create_server(("127.0.0.1", 0))
        stop = threading.Event()

        def serve():
            while not stop.is_set():
                try:
                    connection, _ = listener.accept()
                except OSError:
                    return
                with connection:
                    is_get = _read_request(connection).startswith(b"GET")
                    for piece in (get,) if is_get and get is not None else pieces:
                        try:
                            connection.sendall(piece)
                        except OSError:
                            break
                        time.sleep(delay_s)

        thread = threading.Thread(target=serve, daemon=True)
        thread.start()
        stops.append((stop, listener, thread))
        return f"http://127.0.0.1:{listener.getsockname()[1]}"

    yield start
    for stop, listener, thread in stops:
        stop.set()
        listener.shutdown(socket.SHUT_RDWR)
        listener.close()
        thread.join(2)


def _read_request(connection):
    data = b""
    while b"\r\n\r\n" not in data:
        data += connection.recv(65536) or b"\r\n\r\n"
    head, _, body = data.partition(b"\r\n\r\n")
    for line in head.lower().split(b"\r\n"):
        if line.startswith(b"content-length:"):
            missing = int(line.split(b":")[1]) - len(body)
            while missing > 0:
                missing -= len(connection.recv(missing)) or missing
    return data
