"""A campaign on a fleet: a real scheduler and workers on the loopback interface, each a simulated rig of its own."""

import json
import os
import re
import signal
import subprocess
import sys
import threading
import time
from contextlib import suppress
from pathlib import Path

import pytest
from database import Cluster, wait_for

from kettlefield.core.errors import RigError
from kettlefield.fleet.scheduler import ask_workers, connected, workers_of
from kettlefield.record.store import Record

DASK = str(Path(sys.executable).with_name("dask"))
RIGS = ("quay", "attic", "loft")


@pytest.fixture
def cluster():
    cluster = Cluster()
    yield cluster
    cluster.remove()


class Fleet:
    """A scheduler, and workers that can be killed with all that they started."""

    def __init__(self, folder):
        self.folder, self.running = folder, {}
        self.file = folder / "scheduler.json"

    def start(self, name, *words, **more):
        env = {**os.environ, "DASK_DISTRIBUTED__ADMIN__TICK__LIMIT": "60s", **more}
        with (self.folder / f"{name}.out").open("w") as log:
            self.running[name] = subprocess.Popen(
                [DASK, *words], cwd=self.folder, stdout=log, stderr=log, env=env, start_new_session=True
            )

    def scheduler(self):
        self.file.unlink(missing_ok=True)
        self.start("scheduler", "scheduler", "--host", "127.0.0.1", "--port", "0", "--no-dashboard",
                   "--scheduler-file", str(self.file))  # fmt: skip
        until = time.monotonic() + 120
        while time.monotonic() < until:
            # the scheduler makes the file first and fills it after
            with suppress(FileNotFoundError, json.JSONDecodeError):
                return json.loads(self.file.read_text())["address"]
            time.sleep(0.05)
        raise AssertionError((self.folder / "scheduler.out").read_text())

    def worker(self, name, address, resources=None, *, threads=1, **env):
        resources = f"rig=1 {name}=1" if resources is None else resources
        words = ["--resources", resources] if resources else []
        self.start(name, "worker", address, "--nthreads", str(threads), "--no-dashboard", "--host", "127.0.0.1",
                   "--name", name, *words, **env)  # fmt: skip

    def kill_after(self, name, seconds):
        threading.Timer(seconds, self.kill, [name]).start()

    def kill(self, name):
        process = self.running.pop(name)
        os.killpg(process.pid, signal.SIGKILL)
        process.wait()


@pytest.fixture
def fleet(tmp_path):
    fleet = Fleet(tmp_path)
    yield fleet
    for name in list(fleet.running):
        fleet.kill(name)


@pytest.fixture
def plan(make_plan, cluster):
    plan = make_plan(
        candidates=(("q4_k_m", ""), ("q2_k", 'on = ["quay"]')),
        tables={"grading": "samples = 2\nconcurrent_trials = 4"},
    )
    text = plan.read_text()
    table = 'name = "{0}"\nlabels = ["{0}"]\naccelerator = "simulated:card"\ndisturbed_above = 64.0\n'
    rigs = "".join(f"[[rig]]\n{table.format(name)}\n" for name in RIGS)
    text = text[: text.index("[rig]")] + rigs + text[text.index("[server]") :]
    plan.write_text(text.replace('"record.db"', json.dumps(cluster.database("fleet") + "#desk")))
    return plan


def trials(place):
    """Candidate and exercise of every trial that the database has; none while it is away."""
    record = Record(place)
    try:
        with record._engine.engine.connect() as connection:
            rows = connection.exec_driver_sql(
                "SELECT c.name, t.exercise_id, t.sample FROM trial t JOIN candidate c ON c.id = t.candidate_id"
            ).all()
            return [tuple(row) for row in rows]
    except Exception:
        return []
    finally:
        record.close()


def test_a_worker_and_the_database_die_half_way_and_the_record_is_the_plan(fleet, plan, cluster, program, run_cli):
    place = re.search(r'record = "([^"]+)"', plan.read_text())[1]
    address = fleet.scheduler()
    for name in RIGS:
        fleet.worker(name, address)
    fleet.worker("helper", address, resources="")
    wait_for(lambda: (plan.parent / "helper.out").read_text().count("Registered to"))
    run = subprocess.Popen([program, "qualify", str(plan), "--fleet", address, "--json"], text=True,
                           stdout=subprocess.PIPE, stderr=subprocess.PIPE)  # fmt: skip
    try:
        wait_for(lambda: len([t for t in trials(place) if t[0].endswith("on quay")]) >= 3)
        fleet.kill("quay")
        wait_for(lambda: len(trials(place)) >= 12)
        cluster.stop()
        time.sleep(1)
        cluster.start()
        fleet.worker("quay", address)
        out, err = run.communicate(timeout=400)
    finally:
        run.kill()
    assert run.returncode == 0 and "Traceback" not in err, err
    assert "helper" not in err and "was started without --resources" in err
    wanted = {f"kelpling-400m@q4_k_m on {name}" for name in RIGS} | {"kelpling-400m@q2_k on quay"}
    found = trials(place)
    assert len(found) == len(set(found)) == len(wanted) * 12 * 2 and {one[0] for one in found} == wanted
    assert {row["candidate"] for row in json.loads(out)["candidates"]} == wanted
    # nothing is left to do, and nothing is done again
    again = run_cli("qualify", plan, "--fleet", address)
    assert again.code == 0 and len(trials(place)) == len(found)


def test_graders_grade_for_a_rig_until_they_die_and_one_of_another_version_does_not(
    fleet, plan, program, run_main, tmp_path
):
    text = plan.read_text()
    others = text[text.index("[[rig]]", text.index("[[rig]]") + 1) : text.index("[server]")]
    plan.write_text(text.replace(others, ""))
    place = re.search(r'record = "([^"]+)"', text)[1]
    (tmp_path / "older").mkdir()
    (tmp_path / "older" / "sitecustomize.py").write_text("import kettlefield\nkettlefield.__version__ = '0.0.1'\n")
    address = fleet.scheduler()
    fleet.worker("quay", address)
    fleet.worker("mill", address, "grader=2", threads=2)
    fleet.worker("barn", address, "grader=1", PYTHONPATH=str(tmp_path / "older"))
    fleet.worker("loft", address, "rig=1 loft=1 grader=1")  # no rig of this plan, and no grader either, since it times
    wait_for(lambda: all("Registered to" in (tmp_path / f"{n}.out").read_text() for n in ("quay", "mill", "barn")))

    def graded_by():
        record = Record(place)
        try:
            with record._engine.engine.connect() as connection:
                return connection.exec_driver_sql(
                    "SELECT c.name, t.exercise_id, t.sample, t.outcome, a.graded_by FROM trial t"
                    " JOIN candidate c ON c.id = t.candidate_id JOIN attempt a ON a.trial_id = t.id"
                ).all()
        except Exception:
            return []
        finally:
            record.close()

    run = subprocess.Popen([program, "qualify", str(plan), "--fleet", address], text=True,
                           stdout=subprocess.PIPE, stderr=subprocess.PIPE)  # fmt: skip
    wait_for(lambda: run.poll() is not None or any(row[4] == "mill" for row in graded_by()))
    fleet.kill("mill")
    err = run.communicate(timeout=400)[1]
    assert run.returncode == 0 and "Traceback" not in err, err
    assert "mill grades replies of this rig" in err
    assert "barn does not grade: it has Kettlefield 0.0.1" in err and "it is a rig, and times" in err
    found = graded_by()
    assert {row[4] for row in found} == {"mill", None}
    # whoever grades, the outcomes are the same
    own = plan.with_name("own.toml")
    # what is not simulated is timed, so nobody on a rig's machine grades for it
    own.write_text(plan.read_text().replace(place, "own.db").replace("simulated:card", "none"))
    fleet.worker("mill", address, "grader=2", threads=2)
    wait_for(lambda: "Registered to" in (tmp_path / "mill.out").read_text())
    done = run_main("qualify", own, "--rig", "quay", "--graders", address)
    assert done.code == 0 and "mill does not grade: it is on the machine of a rig" in done.err, done.err
    trials = json.loads(run_main("trials", plan.with_name("own.db"), "--json").out)["trials"]
    here = {(t["candidate"], t["exercise"], t["sample"]): t["outcome"] for t in trials}
    assert {row[:3]: row[3] for row in map(tuple, found)} == here


def test_weights_that_are_another_file_on_a_rig_are_left_out_there_before_anything_runs(fleet, plan, program, run_cli):
    text = plan.read_text()
    (plan.parent / "elsewhere" / "weights").mkdir(parents=True)
    (path,) = (plan.parent / "weights").glob("*q4_k_m.gguf")
    (plan.parent / "elsewhere" / "weights" / path.name).write_bytes(path.read_bytes() + b"\0")
    plan.write_text(text.replace('name = "attic"', 'name = "attic"\nweights = "elsewhere"'))
    address = fleet.scheduler()
    for name in RIGS[:2]:
        fleet.worker(name, address)
    wait_for(lambda: all("Registered to" in (plan.parent / f"{name}.out").read_text() for name in RIGS[:2]))
    done = run_cli("qualify", plan, "--fleet", address, "--only", "*q4_k_m*", "--part", "answers")
    assert done.code == 3 and "left out: kelpling-400m@q4_k_m on attic: its weights have SHA-256" in done.err, done.err
    assert {one[0] for one in trials(re.search(r'record = "([^"]+)"', text)[1])} == {"kelpling-400m@q4_k_m on quay"}


def test_the_demo_of_a_fleet_ends_with_a_matrix_and_leaves_nothing_running(run_cli, tmp_path):
    done = run_cli("demo", "--fleet", tmp_path / "fleet")
    assert done.code == 0 and "Traceback" not in done.err, done.err
    assert "Which level on which rig" in done.out and "SIMULATED" in done.out and "rejected: decode_tps.p50" in done.out
    assert "shares the answers of" in done.err and "mill grades replies" in done.err
    record = Record.open(tmp_path / "fleet" / "record.db")
    with record.reading() as connection:
        asked = connection.exec_driver_sql("SELECT count(DISTINCT candidate_id), count(*) FROM trial").one()
        graded = connection.exec_driver_sql("SELECT DISTINCT graded_by FROM attempt").scalars().all()
    assert asked[0] == 2 and "mill" in graded  # two levels, each asked on one of three rigs
    assert not Path(re.search(r"host=([^#]+)#", done.err)[1]).exists()
    assert subprocess.run(["pgrep", "-f", str(tmp_path)], capture_output=True, check=False).stdout == b""
    both = run_cli("demo", "--fleet", "--real", tmp_path / "other")
    assert both.code == 2 and "does not go with --real" in both.err


def test_ctrl_c_stops_what_runs_on_every_rig(fleet, plan, program):
    place = re.search(r'record = "([^"]+)"', plan.read_text())[1]
    address = fleet.scheduler()
    for name in RIGS[:2]:
        fleet.worker(name, address)
    wait_for(lambda: all("Registered to" in (plan.parent / f"{name}.out").read_text() for name in RIGS[:2]))
    run = subprocess.Popen([program, "qualify", str(plan), "--fleet", address], text=True,
                           stdout=subprocess.PIPE, stderr=subprocess.PIPE)  # fmt: skip
    wait_for(lambda: len({t[0] for t in trials(place)}) == 2)
    run.send_signal(signal.SIGINT)
    err = run.communicate(timeout=120)[1]
    assert run.returncode == 130 and "the same command resumes" in err
    assert "! no worker is this rig yet" in err and "loft" in err
    servers = ["pgrep", "-f", f"kettlefield.demo.*{plan.parent}"]
    wait_for(lambda: subprocess.run(servers, capture_output=True, check=False).stdout == b"", 60)
    before = len(trials(place))
    assert 0 < before < 24 * 4
    # it goes on, until the scheduler dies
    run = subprocess.Popen([program, "qualify", str(plan), "--fleet", address], text=True,
                           stdout=subprocess.PIPE, stderr=subprocess.PIPE)  # fmt: skip
    wait_for(lambda: len(trials(place)) > before)
    fleet.kill("scheduler")
    err = run.communicate(timeout=120)[1]
    assert run.returncode == 3 and "the scheduler is gone" in err and "Traceback" not in err, err


def test_a_scheduler_that_dies_is_said_so_whatever_is_asked_of_it_then(fleet):
    for ask in (workers_of, lambda client: ask_workers(client, ["tcp://127.0.0.1:9"], os.getpid),
                lambda client: client.submit(os.getpid, pure=False).result()):  # fmt: skip
        address = fleet.scheduler()
        with pytest.raises(RigError, match="the scheduler is gone"), connected(address) as client:
            fleet.kill_after("scheduler", 0.3)
            while True:
                ask(client)


def test_a_fleet_that_cannot_carry_it_out_is_refused_in_one_line(fleet, plan, run_cli):
    nobody = run_cli("qualify", plan, "--fleet", "tcp://127.0.0.1:9")
    assert nobody.code == 3 and "no scheduler answers there" in nobody.err
    address = fleet.scheduler()
    empty = run_cli("qualify", plan, "--fleet", address)
    assert empty.code == 2 and "has no workers" in empty.err and "dask worker" in empty.err
    fleet.worker("barn", address)
    wait_for(lambda: "Registered to" in (plan.parent / "barn.out").read_text())
    other = run_cli("qualify", plan, "--fleet", address)
    assert other.code == 2 and "none of its 1 workers is one of the rigs quay, attic, loft" in other.err
    assert "this machine" in other.err
    (plan.parent / "sitecustomize.py").write_text("import kettlefield\nkettlefield.__version__ = '0.0.1'\n")
    fleet.worker("quay", address, PYTHONPATH=str(plan.parent))
    wait_for(lambda: "Registered to" in (plan.parent / "quay.out").read_text())
    older = run_cli("qualify", plan, "--fleet", address)
    assert older.code == 2 and "it has Kettlefield 0.0.1, here is" in older.err
    text = plan.read_text()
    for change, words in (
        ((re.search(r'record = "[^"]+"', text)[0], 'record = "record.db"'), "several machines cannot write one file"),
        ((text[text.index("[[rig]]") : text.index("[server]")], ""), "names no rigs"),
    ):
        own = plan.with_name("other.toml")
        own.write_text(text.replace(*change).replace('on = ["quay"]', "") if "rigs" in words else text.replace(*change))
        done = run_cli("qualify", own, "--fleet", address)
        assert done.code == 2 and words in done.err, done.err
    for words in (("--rig", "quay"), ("--graders", address)):
        both = run_cli("qualify", plan, "--fleet", address, *words)
        assert both.code == 2 and "does not go with --fleet" in both.err
    odd = run_cli("qualify", plan, "--fleet", "nonsense://x")
    assert odd.code == 2 and odd.err.count("\n") == 1
