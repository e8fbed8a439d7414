"""What bounds the use of a candidate, and on what grounds its figures stand, on records written by hand."""

import pytest
from records import PASSED, Writer, editing

from kettlefield.decision.provenance import changes_of, standings
from kettlefield.results.capacity import capacity_found, floor_depth, loads_of, procedure_ends
from kettlefield.results.paired_comparison import mixed_settings
from kettlefield.results.speed import timed_frame
from kettlefield.server.loaded import digest_programs
from kettlefield.weights.digests import weights_digest


@pytest.fixture
def writer(tmp_path):
    return Writer(tmp_path / "record.db")


@pytest.mark.parametrize(
    ("rates", "floor", "depth"),
    [
        (((100, 60), (1000, 20)), 40.0, 555.0),  # half way down, half way along: 105 to 1,005 tokens as counted
        (((100, 60), (1000, 20)), 10.0, None),
        (((100, 30), (1000, 20)), 40.0, 105.0),  # below it from the first depth on
        (((100, 60), (1000, 20)), 0.0, None),  # there is no floor
        ((), 40.0, None),
    ],
)
def test_the_floor_lies_on_the_line_between_two_depths(writer, rates, floor, depth):
    ids = writer.candidate("m@f16")
    for tokens, rate in rates:
        writer.timed(ids, "depth", {"depth_tokens": tokens}, rate=rate, prompt=tokens + 5)
    timed = timed_frame(writer.record)
    found = floor_depth(timed[timed["purpose"] == "depth"], floor)
    assert found == (None if depth is None else pytest.approx(depth))


def test_capacity_serves_so_many_engineers_and_the_last_search_counts(writer):
    ids = writer.candidate("m@f16")
    writer.ended(ids, "open_loop", "budget", capacity_rps=1.0)
    writer.ended(ids, "open_loop", "done", capacity_rps=2.0, fails_at_rps=4.0, tries=[{"rate_rps": 2.0}])
    ends = procedure_ends(writer.record)["m@f16"]
    found = capacity_found({"requests_per_engineer_hour": 12.0}, ends)
    assert (found.holds_rps, found.fails_rps, found.engineers, found.why_ended) == (2.0, 4.0, 600, "done")
    assert capacity_found({}, ends).engineers is None and capacity_found({}, {}) is None
    nothing_held = capacity_found({"requests_per_engineer_hour": 12.0}, {"open_loop": ("done", {"capacity_rps": None})})
    assert (nothing_held.holds_rps, nothing_held.engineers) == (None, None)


def test_loads_stand_in_their_order_with_the_rate_at_which_weights_were_read(writer):
    writer.candidate("m@f16", load_kind="cold")
    writer.candidate("m@f16", load_kind="warm", first_answer_s=1.75)
    cold, warm = loads_of(writer.record)["m@f16"]
    assert (cold.kind, cold.load_s, cold.bytes_s, cold.first_answer_s) == (
        "cold",
        1.5,
        None,
        None,
    )  # no longer than warm
    assert (warm.kind, warm.first_answer_s) == ("warm", 1.75)


def test_grounds_differ_by_what_matters_and_not_by_where_weights_lie(tmp_path):
    found = []
    for number, version in enumerate(("1.80", "1.81")):
        rig = {
            "host": {"cpu": "Tern 9", "user_is_root": number == 0},
            "toolchains": {"rust": version},
            "fingerprint": str(number),
        }
        writer = Writer(tmp_path / f"record{number}.db", rig=rig)
        writer.candidate("m@f16", settings={"sampling": {"seed": number}}, program={"server": "aa"})
        with editing(writer.record) as connection:
            connection.exec_driver_sql("UPDATE candidate SET weights_path = ?", (f"/somewhere/{number}",))
        found.append(standings(writer.record)["m@f16"])
    changes = [(change.what, change.then, change.now) for change in changes_of(*found)]
    assert changes == [("rig toolchains rust", "1.80", "1.81"), ("settings sampling seed", "0", "1")]


def test_only_levels_of_one_model_are_held_to_the_same_settings(writer):
    for name, seed in (("m@f16", 1), ("m@q8_0", 1), ("m@q4_k_m", 2), ("other@q4_k_m", 3)):
        ids = writer.candidate(name, settings={"sampling": {"seed": seed}})
        writer.trial(ids, 0, PASSED)
    assert mixed_settings(writer.record) == {
        "m@q4_k_m": "asked under other settings than m@f16: sampling seed 2 instead of 1"
    }


def test_a_server_is_known_by_the_files_that_its_command_names(tmp_path):
    (tmp_path / "serve.py").write_text("print()\n")
    (tmp_path / "w.gguf").write_bytes(b"weights")
    command = ["sh", "serve.py", "w.gguf", "--name", "serve.txt", "http://127.0.0.1"]
    found = digest_programs(command, tmp_path, apart_from=[tmp_path / "w.gguf"])
    assert {path.rsplit("/", 1)[1] for path in found} == {"sh", "serve.py"}
    assert found[str(tmp_path / "serve.py")] == weights_digest(tmp_path / "serve.py")
    assert digest_programs([], tmp_path) == {} and digest_programs(["no-such-program"], tmp_path) == {}
