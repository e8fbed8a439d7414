"""What decides nothing, and says so: disturbed, guessed, of unlike sessions, of a reference that solves too little."""

import asyncio
import hashlib
import itertools
import json
import os
import subprocess
import sys
import textwrap
from pathlib import Path

import msgspec
import pytest
from records import PASSED, WRONG, Writer, editing

from kettlefield.campaign.learning import known_overhead, known_servers, learn, server_name
from kettlefield.campaign.measuring import again_of
from kettlefield.campaign.serving import Session
from kettlefield.core.acceptance import Status
from kettlefield.core.errors import InputError
from kettlefield.decision.provenance import changes_since, standings
from kettlefield.demo.simulated_models import MODELS, write_weights
from kettlefield.measure.sampler import Sampler
from kettlefield.measure.settings import MemoryTable, SpeedTable
from kettlefield.plan.candidates import Candidate
from kettlefield.plan.criteria import decide
from kettlefield.plan.tables import GradingTable, PromptingTable, SamplingTable, ServerTable
from kettlefield.results.comparison import compare, on_frontier
from kettlefield.results.speed import timings
from kettlefield.rig.survey import rig_state
from kettlefield.server.backend import BACKENDS, Talk
from kettlefield.server.loaded import loaded_by, loaded_now, named
from kettlefield.server.process import Launch
from kettlefield.views.exports import criteria_xml

GRID = {"prompt_tokens": 64, "reply_tokens": 8}
BUSY = "other processes kept 1.9 cores busy"
SPEED = '[[criterion]]\nmeasure = "ttft_s.p50"\nat_most = "5 s"\n[[criterion]]\nmeasure = "decode_tps.p50"\nat_least = "10 tokens/s"\nat_depth = 1024\n'
WORSE = '[[criterion]]\nmeasure = "pass_rate"\nno_worse_than = "reference"\nmargin = 0.1\n'


@pytest.fixture
def write(tmp_path):
    numbers = itertools.count()  # not of the files there are: those of an open record come and go
    return lambda **options: Writer(tmp_path / f"record{next(numbers)}.db", **options)


def judged(writer, candidate=0):
    return [(one.status, one.reason) for one in decide(writer.record).verdicts[candidate].judgements]


# --- speed -----------------------------------------------------------------------------------------------


def test_disturbed_figures_decide_nothing_and_are_called_so_wherever_they_show(write, run_main):
    writer = write(criteria=SPEED)
    ids = writer.candidate("m@f16")
    for _ in range(6):
        writer.timed(ids, "latency", GRID, first=10.4, disturbed=BUSY)
        writer.timed(ids, "depth", {"depth_tokens": 1024}, rate=4, prompt=1024, disturbed=BUSY)
    for status, reason in judged(writer):
        assert status is Status.UNDECIDED
        assert reason == f"disturbed: 6 of 6 samples ({BUSY})"
    assert "disturbed: 6 of 6" in criteria_xml(decide(writer.record)) and "<failure" not in criteria_xml(
        decide(writer.record)
    )
    (row,) = compare(writer.record).rows
    assert set(row.doubts) == {"ttft_s", "decode_tps"} and row.ceiling_share is None
    shown = run_main("compare", writer.path).out
    assert "disturbed" in shown and "10.4" not in shown and "--again speed" in shown
    assert run_main("decide", writer.path).out.count("disturbed: 6 of 6") == 2
    assert json.loads(run_main("compare", writer.path, "--json").out)["candidates"][0]["doubts"]
    assert "disturbed" in run_main("compare", writer.path, "--part", "speed").out
    # a ratio to it is none
    other = writer.candidate("m@q8_0")
    for _ in range(6):
        writer.timed(other, "latency", GRID, first=1.0)
    assert timings(writer.record)[1].ttft_ratio is None


def test_what_is_measured_again_counts_and_what_it_supersedes_stays(write):
    writer = write(criteria=SPEED)
    ids = writer.candidate("m@f16")
    for _ in range(6):
        writer.timed(ids, "latency", GRID, first=10.4, disturbed=BUSY)
        writer.timed(ids, "depth", {"depth_tokens": 1024}, rate=40, prompt=1024)
    for name in ("latency", "depth"):
        writer.ended(ids, name)
    writer.memory(ids, "load", 100, 400)
    writer.memory(ids, "answers", 50, 200)
    again = again_of(["latency", "memory"])
    assert (again.procedures, again.memory) == ({"latency", "depth", "closed_loop", "leak"}, True)
    only = again_of(["latency"])
    assert writer.record.supersede(ids[0], only.procedures, memory=only.memory) == 7
    assert writer.record.procedures(ids[0]) == {"depth": "done"} and writer.record.timed_points(ids[0], "latency") == []
    for _ in range(6):
        writer.timed(ids, "latency", GRID, first=1.0)
    assert [status for status, _ in judged(writer)] == [Status.MET, Status.MET]
    assert compare(writer.record).rows[0].disturbed == 0
    writer.record.supersede(ids[0], (), memory=True)
    assert compare(writer.record).rows[0].peak_bytes == 245  # of the answers part, which is not asked again
    with writer.record.reading() as connection:
        assert connection.exec_driver_sql("SELECT count(*), count(superseded_at) FROM exchange").fetchone() == (18, 6)
    for words, said in ((["answers"], "choosing among results"), (["latensy"], "Did you mean")):
        with pytest.raises(InputError, match=said):
            again_of(words)


def test_sessions_that_disagree_are_not_pooled(write):
    writer = write(criteria=SPEED)
    for session, first in enumerate((1.0, 9.0)):
        ids = writer.candidate("m@f16")
        for number in range(6):
            writer.timed(ids, "latency", GRID, first=first + number / 100)
            writer.timed(ids, "depth", {"depth_tokens": 1024}, rate=40 + session, prompt=1024)
    (first, _), (depth, _) = judged(writer)
    assert (first, depth) == (Status.UNDECIDED, Status.MET)
    assert judged(writer)[0][1].startswith("sessions differ: medians of")
    assert compare(writer.record).rows[0].speed["ttft_s"][0] == 9.0


def test_a_guessed_depth_decides_nothing_and_is_marked(write, run_main):
    writer = write(criteria=SPEED)
    ids = writer.candidate("m@f16")
    for _ in range(6):
        writer.timed(ids, "depth", {"depth_tokens": 1024, "guessed": True}, rate=40)
    assert judged(writer)[1][0] is Status.UNDECIDED and "guessed: the server does not count" in judged(writer)[1][1]
    assert "1,024 tokens (guessed)" in run_main("compare", writer.path, "--part", "speed").out


def test_loads_of_different_kinds_never_share_a_column_and_reading_is_told_only_where_it_was_reading(write):
    writer = write()
    writer.candidate("m@f16", load_kind="cold")
    ids = writer.candidate("m@f16", load_kind="warm", load_disturbed=BUSY)
    writer.memory(ids, "load", 100, 0)
    (row,) = compare(writer.record).rows
    assert (row.load_kind, row.doubts["load_s"]) == ("warm", f"disturbed: {BUSY} while it loaded")
    # both took 1.5 s: nothing was read from the disk that the page cache did not hold
    assert [load.bytes_s for load in timings(writer.record)[0].loads] == [None, None]


# --- correctness, memory ---------------------------------------------------------------------------------


def test_a_reference_that_solves_too_little_cannot_be_equalled(write, run_main):
    for solved, status in ((0, Status.UNDECIDED), (1, Status.UNDECIDED), (18, Status.MET)):
        writer = write(exercises=60, criteria=WORSE)
        for name in ("m@f16", "m@q2_k"):
            ids = writer.candidate(name)
            for exercise in range(60):
                writer.trial(ids, exercise, PASSED if exercise < solved else WRONG)
        found, reason = judged(writer, 1)[0]
        assert found is status, (solved, reason)
        assert ("itself passes" in reason) is (status is Status.UNDECIDED)
        assert ("floor: " in run_main("compare", writer.path).out) is (solved < 2)


def recommend(write, peaks, *, rates=(20, 20), seconds=(0.5, 0.5), trials=20):
    writer = write(exercises=trials, criteria='[[criterion]]\nmeasure = "pass_rate"\nat_least = 0.4\n')
    for name, peak, rate, finished in zip(("m@q6_k", "m@q4_1"), peaks, rates, seconds, strict=True):
        ids = writer.candidate(name)
        writer.phase(ids, "load", peak)
        for exercise in range(trials):
            writer.trial(ids, exercise, PASSED if exercise < rate else WRONG, finished=finished)
    found = decide(writer.record)
    return found.recommended.get("m"), found.why_recommended.get("m", ""), on_frontier(found.table.rows)


def test_a_recommendation_does_not_follow_noise(write):
    mib = 2**20
    chosen, why, best = recommend(write, (100 * mib, 60 * mib))
    assert (chosen, why, best) == ("m@q4_1", "the approved one with the least peak memory", ("m@q4_1",))
    for peaks in ((100 * mib, 100 * mib - 300_000), (100 * mib - 300_000, 100 * mib)):
        chosen, why, best = recommend(write, peaks, rates=(20, 18))
        assert chosen == "m@q6_k" and "equal within 2.00 MiB" in why and "most room to the thresholds" in why
        assert best == ("m@q6_k", "m@q4_1")
        chosen, why, _ = recommend(write, peaks, seconds=(0.5, 0.3))
        assert chosen == "m@q4_1" and "least time a solved exercise" in why


def test_peaks_are_in_the_record_while_a_phase_lasts_and_its_end_takes_their_place(write):
    writer = write()
    ids = writer.candidate("m@f16")
    sampler = Sampler(os.getpid(), None, 0.01)
    session = Session(id=ids[1], server=None, record=writer.record, sampler=sampler, phase="depth")

    def rows():
        with writer.record.reading() as connection:
            return connection.exec_driver_sql("SELECT phase, samples, peak_bytes > 0 FROM memory_block").fetchall()

    try:
        sampler.latest_bytes()
        session.save_peaks()
        session.save_peaks()
        assert [tuple(row) for row in rows()] == [("depth", 0, 1)]
        session.save_phase("depth")
        ((phase, samples, _),) = rows()
        assert phase == "depth" and samples > 0
        session.phase = "answers"
        sampler.latest_bytes()
        session.save_peaks()
        assert [row[0] for row in rows()] == ["depth", "answers"]
    finally:
        sampler.stop()


# --- what was signed ---------------------------------------------------------------------------------------


@pytest.fixture
def served(tmp_path):
    """A server of its own package, with a shared object mapped; and its process."""
    package = tmp_path / "toyserver"
    package.mkdir()
    (package / "__init__.py").write_text("")
    (package / "app.py").write_text("RATE = 1\n")
    (package / "__main__.py").write_text(
        "import msgspec, sys, time\nfrom toyserver import app\nprint('ready', flush=True)\ntime.sleep(60)\n"
    )
    process = subprocess.Popen(
        [sys.executable, "-m", "toyserver"],
        cwd=tmp_path,
        stdout=subprocess.PIPE,
        env={**os.environ, "PYTHONPATH": str(tmp_path)},
    )
    process.stdout.readline()
    yield package, process
    process.kill()
    process.wait()
    process.stdout.close()


def without_weights(writer):
    with editing(writer.record) as connection:
        connection.exec_driver_sql("UPDATE candidate SET weights_path = NULL, weights_sha256 = NULL")
        (text,) = connection.exec_driver_sql("SELECT plan_text FROM campaign").fetchone()
        digest = f"sha256:{hashlib.sha256(text.encode()).hexdigest()}"
        connection.exec_driver_sql("UPDATE campaign SET plan_digest = ?", (digest,))


def test_what_a_server_really_loaded_is_known_and_a_change_of_it_is_found(served, write):
    package, process = served
    loaded = loaded_by([process.pid])
    modules = {entry["module"]: entry for entry in loaded["packages"]}
    assert modules["toyserver"]["root"] == str(package) and modules["msgspec"]["version"] == msgspec.__version__
    assert any(
        "_core" in path and path.endswith(".so") for path in loaded["files"]
    ) and f"msgspec {msgspec.__version__}" in named(loaded)
    assert any("libc" in path for path in loaded["files"]) and "not there" not in loaded["files"].values()
    assert loaded_now(loaded) == loaded
    writer = write(rig=rig_state({"python"}, set()))
    ids = writer.candidate("m@f16")
    without_weights(writer)
    writer.record.save_loaded(ids[1], loaded)
    assert changes_since(writer.record, folder=package)["m@f16"] == ()
    (package / "app.py").write_text("RATE = 2\n")
    (change,) = changes_since(writer.record, folder=package)["m@f16"]
    assert change.what.startswith("server loaded toyserver in ") and "sha256" in change.what
    (package / "app.py").write_text("RATE = 1\n")
    library = package / "fast.so"
    library.write_bytes(b"\x7fELF")
    assert len(changes_since(writer.record, folder=package)["m@f16"]) == 1
    assert standings(writer.record)["m@f16"].server["loaded"] == loaded


def test_the_digest_of_a_package_is_over_its_sources_by_their_paths(served, tmp_path):
    package, process = served
    (elsewhere := tmp_path / "elsewhere").mkdir()
    (elsewhere / "far.py").write_text("A = 1\n")
    for name, text in {
        "a-b/x.py": "B = 1\n", "a/x.py": "A = 1\n", "a/deep/er/y.json": "{}", "a/notes.txt": "no source",
        "__pycache__/app.pyc.py": "stale", ".json": "{}",
    }.items():  # fmt: skip
        (package / name).parent.mkdir(parents=True, exist_ok=True)
        (package / name).write_text(text)
    (package / "link.py").symlink_to(elsewhere / "far.py")
    (package / "folder").symlink_to(elsewhere)
    (package / "broken.py").symlink_to(tmp_path / "nowhere")

    def found():
        entries = loaded_by([process.pid])["packages"]
        return next(entry["sha256"] for entry in entries if entry["module"] == "toyserver")

    # as records have it that were written before: folder by folder, so "a/x.py" is before "a-b/x.py"
    names = sorted(
        path.relative_to(package)
        for path in package.rglob("*")
        if path.suffix in {".py", ".json"} and "__pycache__" not in path.parts and path.is_file()
    )
    assert Path("link.py") in names and Path("folder/far.py") not in names and Path(".json") not in names
    assert names.index(Path("a/x.py")) < names.index(Path("a-b/x.py"))
    lines = (f"{name}\0{hashlib.sha256((package / name).read_bytes()).hexdigest()}\n" for name in names)
    wanted = hashlib.sha256("".join(lines).encode()).hexdigest()
    assert found() == wanted
    (package / "a" / "notes.txt").write_text("still none")
    (elsewhere / "new.py").write_text("not below it")
    assert found() == wanted
    (elsewhere / "far.py").write_text("A = 2\n")  # what a link leads to is loaded too
    assert found() != wanted


def test_a_script_is_known_with_what_it_imports(tmp_path):
    (tmp_path / "serve.py").write_text(
        textwrap.dedent("""
        import helper_of_it, msgspec.json, sys, time
        print('ready', flush=True)
        time.sleep(60)
    """)
    )
    (tmp_path / "helper_of_it.py").write_text("X = 1\n")
    process = subprocess.Popen(
        [sys.executable, "-B", "serve.py"],
        cwd=tmp_path,
        stdout=subprocess.PIPE,
        env={**os.environ, "PYTHONPATH": str(tmp_path)},
    )
    try:
        process.stdout.readline()
        loaded = loaded_by([process.pid, 2**22 + 1])
        assert str(tmp_path / "serve.py") in loaded["files"]
        assert {"helper_of_it", "msgspec"} <= {entry["module"] for entry in loaded["packages"]}
    finally:
        process.kill()
        process.wait()
        process.stdout.close()


def test_a_signed_rejection_is_no_approval(write, run_main):
    text = '[[criterion]]\nmeasure = "pass_rate"\nat_least = 0.5\n'
    for outcome, code, words in (
        (WRONG, 4, "No approval: what R. Tern signed is m@q8_0 rejected"),
        (PASSED, 0, "Still valid for m@q8_0"),
    ):
        writer = write(exercises=30, criteria=text, rig=rig_state(set(), set()))
        ids = writer.candidate("m@q8_0")
        without_weights(writer)
        for exercise in range(30):
            writer.trial(ids, exercise, outcome)
        run_main("decide", writer.path, "--by", "R. Tern")
        done = run_main("decide", writer.path, "--still-valid")
        assert (done.code, words in done.out) == (code, True), done.out
        assert json.loads(run_main("decide", writer.path, "--still-valid", "--json").out)["still_valid"] is (code == 0)


# --- what a server takes -----------------------------------------------------------------------------------


def candidate_of(path, **server):
    table = ServerTable(command=("my-server", "{weights}"), context=2048, **server)
    return Candidate(
        model="m", level="l", weights=path, reference=False, baseline=False, settings_name=None, server=table, prompting=PromptingTable(),
        sampling=SamplingTable(), speed=SpeedTable(), memory=MemoryTable(), grading=GradingTable(),
    )  # fmt: skip


def test_what_a_server_takes_is_learned_and_used_for_the_next(write, tmp_path, run_main, monkeypatch):
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "cache"))
    from kettlefield.campaign.registering import Registered, predict_again, weights_facts

    path, next_path = tmp_path / "a.gguf", tmp_path / "b.gguf"
    write_weights(MODELS["kelpling-400m"], "q8_0", path)
    write_weights(MODELS["kelpling-400m"], "q4_k_m", next_path)
    by_rule = weights_facts(candidate_of(path), None)
    assert by_rule["overhead_from"] == "a rule of thumb"
    writer = write()
    ids = writer.candidate("m@l")
    measured = by_rule["predicted_bytes"] - by_rule["overhead_bytes"] + 700 * 2**20
    writer.phase(ids, "answers", measured)
    learn(writer.record, candidate_of(path), ids[0], None)
    found = known_overhead(("my-server", "x"))
    assert (found.overhead_bytes, found.learned_from, found.per_token_bytes) == (700 * 2**20, "m@l", 0.0)
    following = weights_facts(candidate_of(next_path), None)
    assert (following["overhead_bytes"], following["overhead_from"]) == (700 * 2**20, "learned from m@l")
    # one that was measured keeps the prediction that was made before
    held = Registered(id=ids[0], predicted_bytes=5)
    assert predict_again(writer.record, candidate_of(path), held, None) is held
    # growth beyond what the header says: 1,000 bytes a token more at 2,048 tokens
    learn(writer.record, candidate_of(path), ids[0], by_rule["kv_bytes_per_token"] + 1000.0)
    assert known_overhead(("my-server",)).at_context(4096) == 700 * 2**20 + 2048 * 1000
    weighed = run_main("weigh", next_path, "--server", "my-server {weights}", "--budget", "4 GiB").out
    assert "700 MiB at 2,048 tokens" in weighed and "learned from m@l on my-server" in weighed
    assert "Learned here for: my-server" in run_main("weigh", next_path, "--budget", "4 GiB").out
    plan = tmp_path / "plan.toml"
    assert (
        run_main("draft", next_path, "-o", plan, "--server", "my-server {weights} {port}", "--budget", "4 GiB").code
        == 0
    )
    assert "learned from m@l" in plan.read_text() and "overhead =" not in plan.read_text()
    assert known_servers() == ("my-server",) and known_overhead(("other",)) is None


@pytest.mark.parametrize(
    ("command", "name"),
    [
        (("{python}", "-m", "inferd", "--port", "1"), "python -m inferd"),
        (("/usr/bin/python3", "-u", "serve.py", "x"), "python3 serve.py"),
        (("/opt/bin/inferd", "--weights", "w"), "inferd"),
        ((), ""),
    ],
)
def test_a_server_is_named_by_what_its_command_runs(command, name):
    assert server_name(command) == name


def test_a_session_attached_by_url_has_nothing_to_look_into(write):
    writer = write()
    launch = Launch(command=(), fields={}, ready_paths=(), ready_within_s=1, log=Path("log"), folder=Path())

    async def look():
        async with BACKENDS["http"].open(launch, Talk(reply_within_s=1), "http://127.0.0.1:9") as server:
            session = Session(id=1, server=server, record=writer.record, sampler=None)
            return await session.save_loaded(()), session.is_alive()

    assert asyncio.run(look()) == (None, True)
