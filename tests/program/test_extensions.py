"""A module of a third party adds a measure, weights format, language or check; a broken one is named and left out."""

import json
import os
import re
import sqlite3

import pytest
import tomli_w
from records import PASSED, WRONG, Writer

from kettlefield.demo.simulated_models import MODELS, write_weights

MODULE = """
import msgspec
from pathlib import Path

from kettlefield.core.units import Unit
from kettlefield.decision.measures import measure
from kettlefield.weights.facts import WeightsFormat
from kettlefield.weights.gguf import read_gguf_facts


@measure("solved_count", Unit.COUNT, "trials solved at the first attempt", needs="the answers part")
def solved_count(_evidence, row, _criterion, _confidence):
    return float(row.solved)


def read(path):
    inner = read_gguf_facts(path.parent / path.read_text().split()[1])
    return msgspec.structs.replace(inner, path=path, files=(path,), format="tally")


TALLY = WeightsFormat(
    name="tally", title="tally", endings=(".tally",), matches=lambda path, magic: magic.startswith(b"TALLY"), read=read
)
"""


LANGUAGE_AND_CHECK = """
import re

from kettlefield.core.outcome import CheckResult, RunEnd
from kettlefield.grading.checks.kind import CheckKind
from kettlefield.grading.results import Finding, make_result
from kettlefield.languages.language import Language, Recipe, Toolchain
from kettlefield.suite.format import Check

AWK = Language(
    name="awk", title="AWK", suffix=".awk", comments=("#",), structure="braces",
    probe=lambda: Toolchain(language="awk", program="/usr/bin/awk", version="1.0"),
    environment="AWK {version}",
    recipe=Recipe(build=None, keeps=None, run=("awk", "-f", "@"), missing=re.compile("no such"), syntax=re.compile("syntax error")),
)


class LinesCheck(Check, frozen=True, kw_only=True, tag_field="kind", tag="line-count"):
    at_most: int


def run(bench, check):
    lines = bench.files[bench.main].count("\\n")
    said = f"it has {lines} lines, at most {check.at_most}" if lines > check.at_most else ""
    return make_result(check, Finding(end=RunEnd.FINISHED, agreed=int(not said), detail=said, feedback=said), 1, 0.0)


LINES = CheckKind(spec=LinesCheck, run=run)
"""
AWK_EXERCISE = {
    "title": "Sum of fares", "kind": "write", "language": "awk", "file": "answer.awk", "difficulty": 1,
    "topics": ["fares"], "tests": "A sum.",
    "check": [
        {"kind": "program", "name": "sums", "cases": "cases.json"},
        {"kind": "line-count", "name": "short", "at_most": 2},
    ],
    "decoy": [
        {"name": name, "outcome": outcome, "mistake": "A mistake."}
        for name, outcome in (("last", "wrong-answer"), ("long", "wrong-answer"), ("broken", "no-build"))
    ],
}  # fmt: skip
AWK_ANSWER = "{ sum += $1 }\nEND { print sum }\n"


@pytest.fixture
def extended(tmp_path, monkeypatch):
    """A folder on the path with one module, and the entry points that name it."""
    folder = tmp_path / "site"
    folder.mkdir()
    monkeypatch.setenv("PYTHONPATH", f"{folder}{os.pathsep}{os.environ.get('PYTHONPATH', '')}")

    def install(module, **groups):
        (folder / "berth_desk_extras.py").write_text(module)
        info = folder / "berth_desk_extras-1.0.dist-info"
        info.mkdir()
        (info / "METADATA").write_text("Metadata-Version: 2.1\nName: berth-desk-extras\nVersion: 1.0\n")
        text = "".join(f"[kettlefield.{group}]\n{name} = {value}\n" for group, (name, value) in groups.items())
        (info / "entry_points.txt").write_text(text)

    return install


def record_of(tmp_path, measure):
    criteria = f'[[criterion]]\nmeasure = "{measure}"\nat_least = 2\n'
    writer = Writer(tmp_path / "record.db", exercises=3, criteria=criteria)
    ids = writer.candidate("m@f16")
    for exercise, outcome in enumerate((PASSED, PASSED, WRONG)):
        writer.trial(ids, exercise, outcome)
    return writer.path


def test_a_measure_and_a_weights_format_come_from_one_file_of_somebody_else(extended, run_cli, tmp_path):
    extended(MODULE, measures=("extras", "berth_desk_extras"), weights=("extras", "berth_desk_extras"))
    done = run_cli("decide", record_of(tmp_path, "solved_count"), "--json")
    (criterion,) = done.json["verdicts"][0]["criteria"]
    assert (done.code, criterion["measure"], criterion["found"], criterion["status"]) == (0, "solved_count", 2.0, "met")
    write_weights(MODELS["kelpling-400m"], "q8_0", tmp_path / "inner.gguf")
    (tmp_path / "m.tally").write_text("TALLY inner.gguf\n")
    weighed = run_cli("weigh", tmp_path / "m.tally", "--json").json["files"][0]
    assert (weighed["format"], weighed["level"], weighed["file"]) == ("tally", "q8_0", str(tmp_path / "m.tally"))


SERVER_AND_PROCEDURE = """
from kettlefield.core.timing.timeline import Trace
from kettlefield.measure.procedure import DONE, SPEED, Ended, Procedure, Timed
from kettlefield.server.backend import Backend
from kettlefield.server.exchange import Exchange


class Echo:
    url, command, started_s, pid, is_alive = "echo", (), 0.0, None, True

    @property
    def client(self):
        return self

    async def ready(self):
        return None

    async def describe(self):
        return "echo 1.0"

    async def stop(self):
        pass

    async def ask(self, ask, *, stream=True):
        trace = Trace(stamps_s=(0.1, 0.2), thinking=(False, False), finished_s=0.3, prompt_tokens=9, completion_tokens=2)
        return Exchange(
            ask=ask, asked_at=0.0, sent_s=0.0, concurrency=1, text="B1", thinking="", trace=trace, finish_reason="stop"
        )


async def start(launch, talk):
    return Echo()


async def look_twice(bench, wish):
    for number in (1, 2):
        yield Timed(purpose="twice", exchange=await bench.ask("Which berth?", wish.reply_tokens), point={"number": number})
    yield Ended(name="twice", why=DONE, facts={"looks": 2})


ECHO = Backend(name="echo", start=start)
TWICE = Procedure(name="twice", doing="looking twice", parts=frozenset({SPEED}), run=look_twice)
"""


def test_a_protocol_and_a_procedure_come_from_one_file_of_somebody_else(extended, run_cli, make_plan):
    extended(
        SERVER_AND_PROCEDURE, servers=("extras", "berth_desk_extras:ECHO"), procedures=("extras", "berth_desk_extras")
    )
    tables = {"server": 'command = ["none"]\nprotocol = "echo"', "speed": 'requests = 0\nalso = ["twice"]'}
    plan = make_plan(tables=tables)
    done = run_cli("qualify", plan, "--part", "speed")
    assert (done.code, "looking twice" in done.err) == (0, True), done.err
    with sqlite3.connect(plan.parent / "record.db") as record:
        assert record.execute("SELECT name, why_ended, facts FROM procedure").fetchall() == [
            ("twice", "done", '{"looks": 2}')
        ]
        assert record.execute("SELECT count(*) FROM exchange WHERE purpose = 'twice'").fetchall() == [(2,)]
        assert record.execute("SELECT description FROM session").fetchall() == [("echo 1.0",)]
    for key, wrong, said in (("protocol", '"ecco"', 'Did you mean "echo"?'), ("also", '["twise"]', '"twice"?')):
        text = plan.read_text()
        plan.write_text(re.sub(rf"(?m)^{key} = .*$", f"{key} = {wrong}", text))
        refused = run_cli("qualify", plan)
        assert (refused.code, said in refused.err) == (2, True), refused.err
        plan.write_text(text)


def test_a_language_and_a_kind_of_check_come_from_one_file_of_somebody_else(extended, run_cli, tmp_path):
    extended(
        LANGUAGE_AND_CHECK, languages=("extras", "berth_desk_extras"), checks=("extras", "berth_desk_extras:LINES")
    )
    exercise = tmp_path / "suite" / "fare-sum"
    cases = [{"stdin": f"{a}\n{b}\n", "stdout": f"{a + b}\n", "by_hand": True} for a, b in ((1, 2), (3, 4), (5, 6))]
    files = {
        "../suite.toml": tomli_w.dumps({"title": "t", "description": "d"}),
        "exercise.toml": tomli_w.dumps(AWK_EXERCISE),
        "prompt.md": "Print the sum of the fares, one a line, in at most 2 lines of AWK.\n",
        "cases.json": json.dumps(cases),
        "answer/answer.awk": AWK_ANSWER,
        "decoys/last/answer.awk": AWK_ANSWER.replace("+=", "="),
        "decoys/long/answer.awk": "# one line too many\n" + AWK_ANSWER,
        "decoys/broken/answer.awk": "{ sum += \n",
    }
    for name, text in files.items():
        (exercise / name).parent.mkdir(parents=True, exist_ok=True)
        (exercise / name).write_text(text)
    done = run_cli("vet", exercise.parent)
    assert (done.code, "sound" in done.out) == (0, True), done.out + done.err
    assert "awk 1.0" in run_cli("rig").out
    added = run_cli("suite", "add", "write", "second", "--language", "awk", "--in", exercise.parent)
    assert added.code == 0 and (exercise.parent / "second" / "answer" / "answer.awk").is_file(), added.err
    spec = (exercise / "exercise.toml").read_text().replace('"line-count"', '"line-counts"')
    (exercise / "exercise.toml").write_text(spec)
    refused = run_cli("vet", exercise.parent)
    assert refused.code == 2 and 'there is no kind of check "line-counts"' in refused.err
    assert 'Did you mean "line-count"?' in refused.err


@pytest.mark.parametrize(
    ("module", "value", "said"),
    [
        ("raise RuntimeError('tide out')", "berth_desk_extras", "cannot be loaded: RuntimeError: tide out"),
        ("x = 1", "berth_desk_extras", "it offers no Measure"),
        ("x = 1", "berth_desk_nowhere", "cannot be loaded: ModuleNotFoundError"),
        ("from kettlefield.decision.measures import pass_rate", "berth_desk_extras", 'the name "pass_rate" is taken'),
    ],
)
def test_a_broken_one_is_named_and_left_out(extended, run_cli, tmp_path, module, value, said):
    extended(module + "\n", measures=("extras", value))
    done = run_cli("decide", record_of(tmp_path, "pass_rate").parent / "record.db")
    assert done.code in {1, 4} or "share from 0 to 1" in done.err
    assert f"left out: {value}" in done.err and said in done.err and "Traceback" not in done.err
