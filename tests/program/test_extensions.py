"""A module of a third party adds a measure or a weights format from one file; a broken one is named and left out."""

import os

import pytest
from records import PASSED, WRONG, Writer

from kettlefield.demo.simulated_models import MODELS, write_weights

MODULE = """
import dataclasses
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
    return dataclasses.replace(inner, path=path, files=(path,), format="tally")


TALLY = WeightsFormat(
    name="tally", title="tally", endings=(".tally",), matches=lambda path, magic: magic.startswith(b"TALLY"), read=read
)
"""


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
