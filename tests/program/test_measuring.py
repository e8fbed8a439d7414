"""Every timing procedure through a whole campaign, compared with what the stand-in says that it really did."""

import json
import sqlite3
import statistics

import pytest

EVERYTHING = """\
requests = 6
prompt_tokens = [96, 480]
reply_tokens = [8, 24]
prompt_cache = 5
cold_load = true
[speed.depth]
tokens = [64, 640, 1600, 9000]
repeats = 3
floor = 2000.0
system_tokens = 300
[speed.closed_loop]
concurrency = [1, 4]
[speed.open_loop]
ttft = "60 ms"
requests_per_engineer_hour = 12
lasting = "1 s"
tries = 3
"""
PROCEDURES = {"latency", "depth", "system", "prompt_cache", "closed_loop", "open_loop", "leak", "past-window"}


@pytest.fixture
def everything(make_plan):
    """A plan with all procedures; further options go to the stand-in."""

    def make(*options, speed=EVERYTHING, memory="leak_requests = 14"):
        plan = make_plan(tables={"speed": speed, "memory": memory})
        words = "".join(f', "{option}"' for option in options)
        plan.write_text(plan.read_text().replace('demo"', f'demo"{words}'))
        return plan

    return make


def rows(folder, query):
    with sqlite3.connect(folder / "record.db") as connection:
        found = connection.execute(query).fetchall()
    connection.close()
    return found


def test_every_procedure_finds_what_the_stand_in_does(everything, run_main, tmp_path):
    leak = 3 * 2**20
    plan = everything("--prompt-cache", "--leak-bytes", str(leak), "--true-log", "true.jsonl")
    card = tmp_path / "card" / "card.toml"
    card.write_text(card.read_text() + "busy_w = 50.0\n" if "busy_w" not in card.read_text() else card.read_text())
    parts = ("--part", "speed", "--part", "memory")
    done = run_main("qualify", plan, *parts)
    assert done.code == 0, done.err
    speed = run_main("compare", tmp_path / "record.db", "--part", "speed", "--json").json["candidates"][0]
    memory = run_main("compare", tmp_path / "record.db", "--part", "memory", "--json").json["candidates"][0]
    assert set(speed["ended"]) == PROCEDURES and set(speed["ended"].values()) == {"done"}

    # the stopwatch: first tokens and rates of every timed request against the moments at which they were sent
    truth = {}
    for line in (tmp_path / "true.jsonl").read_text().splitlines():
        entry = json.loads(line)
        truth[entry["prompt"].split(".")[0]] = entry
    from kettlefield.record.packing import unpack_json

    errors, ratios = [], []
    for first, rate, blob in rows(
        tmp_path,
        "SELECT ttft_s, decode_tps, messages FROM exchange JOIN prompt ON prompt.id = prompt_id"
        " WHERE purpose IN ('latency', 'depth') AND disturbed IS NULL AND ttft_s IS NOT NULL",
    ):
        entry = truth[unpack_json(blob)[-1]["content"].split(".")[0]]
        sent = entry["sent_s"]
        errors.append(first - (sent[0] - entry["received_s"]))
        if rate is not None:  # a host so busy that all tokens were read at one moment leaves none
            ratios.append(rate * (sent[-1] - sent[0]) / (len(sent) - 1))
    if len(ratios) >= 8:  # on a host that is busy all the time, nothing undisturbed may be left
        assert abs(statistics.median(errors)) < 0.010
        assert statistics.median(ratios) == pytest.approx(1, abs=0.1)

    assert [cell["label"] for cell in speed["latency"]] == [
        f"{tokens} tokens in, {reply} out" for tokens in (96, 480) for reply in (8, 24)
    ]
    assert all(cell["n"] == 6 for cell in speed["latency"])
    depths = speed["depth"]["cells"]
    assert [round(cell["prompt_tokens"], -1) for cell in depths] == pytest.approx([64, 640, 1600], rel=0.05, abs=30)
    assert depths[0]["ttft_s"]["value"] < depths[2]["ttft_s"]["value"]
    assert "exceed the context" in speed["depth"]["past_window"]
    new, again = speed["prompt_cache"]
    assert again["ttft_s"]["value"] < new["ttft_s"]["value"] and speed["prompt_cache_ratio"]["value"] < 1
    one, four = speed["closed_loop"]["rates_tps"]
    # four at once, whatever the host is busy with; its rate is some three times as high where it is busy with nothing
    assert (None in (one, four) or four > 0.5 * one) and sorted(
        rows(tmp_path, "SELECT max(concurrency) FROM exchange WHERE purpose = 'closed_loop' GROUP BY point")
    ) == [(1,), (4,)]
    assert [cell["n"] for cell in speed["closed_loop"]["cells"]] == [3, 12]
    capacity, holds = (
        speed["capacity"],
        speed["capacity"]["holds_rps"],
    )  # none where the host was so busy that no rate held
    assert capacity["engineers"] == (None if holds is None else int(holds * 3600 / 12)) and len(capacity["tries"]) == 3
    assert [load["kind"] for load in speed["loads"]] == ["cold", "warm"]
    assert all(0 < load["load_s"] < load["first_answer_s"] for load in speed["loads"])

    phases = [phase["phase"] for phase in memory["phases"]]
    assert phases[0] == "load" and phases[-1] == "idle" and {"depth", "closed_loop", "leak"} <= set(phases)
    # what it loses is reported with a beat of its own, so single looks may be a request late
    assert memory["leaks"] and memory["leak_bytes"]["value"] == pytest.approx(leak, rel=0.34)
    assert sum(phase["energy_j"] for phase in memory["phases"]) > 0

    before = rows(tmp_path, "SELECT count(*) FROM exchange WHERE purpose <> 'preflight'")
    assert run_main("qualify", plan, *parts).code == 0  # all is there: no server is started
    assert rows(tmp_path, "SELECT count(*) FROM exchange WHERE purpose <> 'preflight'") == before
    shown = run_main("compare", tmp_path / "record.db", "--part", "speed").out
    assert all(
        words in shown for words in ("context depth", "x a new prompt", "concurrency", "past its window", "cold")
    ) and ("engineers" in shown) is (holds is not None)
    shown = run_main("compare", tmp_path / "record.db", "--part", "memory").out
    assert "IT LEAKS" in shown and "Samphire SK-4 (simulated)" in shown


def test_the_cache_that_grows_is_seen_token_by_token(everything, run_main, tmp_path):
    speed = "requests = 0\n[speed.depth]\ntokens = [100, 600, 1200, 1800]\nrepeats = 3\npast_window = false\n"
    plan = everything("--cache-on-demand", speed=speed, memory="")
    assert run_main("qualify", plan, "--part", "memory").code == 0
    (found,) = run_main("compare", tmp_path / "record.db", "--part", "memory", "--json").json["candidates"]
    slope = found["token_slope_bytes"]
    assert slope["value"] == pytest.approx(found["predicted_token_bytes"], rel=0.25)
    assert found["leak_bytes"] is None and not found["leaks"]


@pytest.mark.parametrize(("option", "said"), [("cut", "silently cut to"), ("crash", "the server died")])
def test_what_happens_past_the_window_is_told_and_the_campaign_goes_on(everything, run_main, tmp_path, option, said):
    speed = "requests = 2\nwarm_up = 0\n[speed.depth]\ntokens = [64]\nrepeats = 1\n"
    plan = everything("--past-window", option, speed=speed)
    assert run_main("qualify", plan, "--part", "speed").code == 0
    (found,) = run_main("compare", tmp_path / "record.db", "--part", "speed", "--json").json["candidates"]
    assert said in found["depth"]["past_window"]


def test_a_card_that_gets_hot_marks_its_samples(everything, run_main, tmp_path):
    plan = everything(
        "--throttle-after", "0.3", "--throttle-factor", "3", speed="requests = 40\nwarm_up = 0\nreply_tokens = 64"
    )
    card = tmp_path / "card" / "card.toml"
    card.write_text(card.read_text().replace("4e12", "300e9"))
    assert run_main("qualify", plan, "--part", "speed").code == 0
    marked = rows(tmp_path, "SELECT count(*) FROM exchange WHERE disturbed LIKE '%throttled%'")[0][0]
    assert 0 < marked <= 40
    assert "disturbed" in run_main("compare", tmp_path / "record.db").out


def test_blocks_let_candidates_take_turns(make_plan, run_main, tmp_path):
    plan = make_plan(
        candidates=(("q8_0", ""), ("q2_k", "")),
        tables={
            "rig": 'accelerator = "simulated:card"\ndisturbed_above = 64.0\nblocks = 2',
            "speed": "requests = 4\nwarm_up = 0",
        },
    )
    done = run_main("qualify", plan)
    assert done.code == 0, done.err
    turns = rows(tmp_path, "SELECT trial.candidate_id, count(*) FROM trial JOIN attempt ON trial_id = trial.id JOIN exchange"
                 " ON exchange.id = exchange_id GROUP BY session_id ORDER BY session_id")  # fmt: skip
    assert [candidate for candidate, _ in turns] == [1, 2, 1, 2]
    timed = rows(tmp_path, "SELECT count(*) FROM exchange WHERE purpose = 'latency' GROUP BY session_id")
    assert timed == [(2,)] * 4
    assert rows(tmp_path, "SELECT count(*) FROM trial") == [(24,)]


def test_a_server_that_has_too_much_to_do_is_asked_again_when_it_says(make_plan, run_main, tmp_path):
    plan = make_plan(tables={"grading": "concurrent_trials = 6\nfault_retries = 0"})
    plan.write_text(plan.read_text().replace('demo"', 'demo", "--busy-after", "1"'))
    done = run_main("qualify", plan)
    assert done.code == 0, done.err
    assert rows(tmp_path, "SELECT count(*) FROM trial WHERE outcome = 'server-fault'") == [(0,)]


def test_calibrate_keeps_the_error_for_later_campaigns(make_plan, run_cli, run_main, tmp_path):
    home = {"XDG_CACHE_HOME": str(tmp_path / "cache")}
    plan = make_plan(
        tables={"rig": 'accelerator = "simulated:card"\ncalibrated_within = "1 h"', "speed": "requests = 2"}
    )
    refused = run_cli("qualify", plan, env=home)
    assert (refused.code, "never was" in refused.err, refused.err.count("\n")) == (2, True, 1), refused.err
    found = run_cli("calibrate", "--seconds", "0.4", "--real", "--json", env=home).json
    assert [row["streams"] for row in found["streams"]] == [1, 8, 32, 64]
    assert all(row["events"] >= 10 * row["streams"] and row["resident_bytes"] < 200 * 2**20 for row in found["streams"])
    assert [row["streams"] for row in found["real"]] == [1, 6] and all(row["events"] > 20 for row in found["real"])
    assert found["floor_s"] >= max(found["real"][0]["event_p99_s"], found["streams"][0]["event_p99_s"])
    assert 0 < found["floor_s"] < 1 and found["sampler_looks"] > 0
    assert run_cli("qualify", plan, "--part", "speed", env=home).code == 0
    rig = json.loads(rows(tmp_path, "SELECT rig FROM campaign")[0][0])
    assert rig["calibration"]["floor_s"] == found["floor_s"]
    assert "own error on this rig" in run_main("compare", tmp_path / "record.db", "--part", "speed").out
    assert "calibrated" in run_cli("rig", env=home).out
    assert run_main("calibrate", "--seconds", "0").code == 2


def test_a_card_that_is_full_at_depth_ends_the_procedure_and_the_next_candidate_is_measured(
    everything, run_main, tmp_path
):
    speed = "requests = 2\nwarm_up = 0\n[speed.depth]\ntokens = [64, 1800]\nrepeats = 2\npast_window = false\n"
    plan = everything("--cache-on-demand", speed=speed, memory="")
    card = tmp_path / "card" / "card.toml"
    # room for the weights and half of the deepest context
    size = (tmp_path / "weights" / "kelpling-400m-q4_k_m.gguf").stat().st_size + 160 * 2**20 + 900 * 49152
    card.write_text(card.read_text().replace("4_294_967_296", str(size)))
    done = run_main("qualify", plan, "--part", "speed")
    assert done.code == 3 and "depth stopped: the server" in done.err
    (found,) = run_main("compare", tmp_path / "record.db", "--part", "speed", "--json").json["candidates"]
    assert found["ended"]["latency"] == "done" and found["ended"]["depth"] not in {"done", "budget"}
    assert [cell["label"] for cell in found["depth"]["cells"]] == ["64 tokens"]
    assert "out of memory" in next((tmp_path / "logs").glob("*.log")).read_text()
    assert run_main("compare", tmp_path / "record.db", "--only", "nobody").code == 2
