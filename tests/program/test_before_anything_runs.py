"""rig, weigh and draft through the program; and the guard at the start of a campaign."""

import json
import shutil
import sqlite3
import tomllib
from types import SimpleNamespace

import pytest
from conftest import BUILT_IN

from kettlefield.demo.simulated_models import LEVEL_TYPES, MODELS, write_weights
from kettlefield.grading.checks.all_checks import CHECKS
from kettlefield.languages.all_languages import LANGUAGES
from kettlefield.rig.accelerators import energy_counters, find_accelerators
from kettlefield.rig.host import read_host
from kettlefield.rig.survey import fingerprint


@pytest.fixture(scope="module")
def weights(tmp_path_factory):
    folder = tmp_path_factory.mktemp("weights")
    for level in LEVEL_TYPES:
        write_weights(MODELS["marram-1.2b"], level, folder / f"marram-{level}.gguf")
    return folder


def files(folder):
    return [folder / f"marram-{level}.gguf" for level in LEVEL_TYPES]


def test_rig_says_what_is_here_and_what_is_missing(run_cli, run_main, tmp_path):
    done = run_main("rig", "--json", "--disk", tmp_path)
    found = done.json
    assert found["host"]["memory_bytes"] > 2**28 and found["host"]["threads"] >= 1
    assert found["memory_bandwidth_bytes_s"] > 1e8 and found["disk_read_bytes_s"] > 1e5
    assert found["toolchains"].keys() == {*LANGUAGES.programs, "html"}
    assert found["isolation"]["name"] == "bubblewrap"
    assert len(found["fingerprint"]) == 16
    assert list(tmp_path.iterdir()) == []
    shown = run_main("rig").out
    for word in ("processor", "memory bandwidth", "isolation", "fingerprint", found["fingerprint"]):
        assert word in shown
    without = run_cli("rig", env={"PATH": "/nonexistent"})
    assert (without.code, "missing: javascript; install it: apt-get install nodejs" in without.out) == (0, True)
    assert "missing: sandbox: no isolation works here" in without.out


def test_the_fingerprint_changes_with_what_matters_and_only_then():
    import msgspec

    host = read_host()
    first = fingerprint(host, ())
    assert fingerprint(msgspec.structs.replace(host, user_is_root=not host.user_is_root), ()) == first
    assert fingerprint(msgspec.structs.replace(host, memory_bytes=host.memory_bytes + 2**20), ()) == first
    for change in ({"kernel": "9.9"}, {"cpu": "other"}, {"memory_bytes": host.memory_bytes * 2}):
        assert fingerprint(msgspec.structs.replace(host, **change), ()) != first


def fake_nvml(fails=False):
    class NVMLError(Exception):
        pass

    def refuse(*_):
        raise NVMLError

    return SimpleNamespace(
        NVMLError=NVMLError,
        nvmlInit=refuse if fails else lambda: None,
        nvmlShutdown=lambda: None,
        nvmlSystemGetDriverVersion=lambda: b"700.1",
        nvmlDeviceGetCount=lambda: 1,
        nvmlDeviceGetHandleByIndex=lambda index: index,
        nvmlDeviceGetName=lambda handle: "Card",
        nvmlDeviceGetMemoryInfo=lambda handle: SimpleNamespace(total=1000, used=10),
    )


def test_accelerators_are_found_through_nvml_and_sysfs(tmp_path):
    device = tmp_path / "drm" / "card0" / "device"
    device.mkdir(parents=True)
    (device / "mem_info_vram_total").write_text("2000\n")
    (device / "mem_info_vram_used").write_text("20\n")
    (tmp_path / "drm" / "card1" / "device").mkdir(parents=True)  # a display without memory counters
    cards = find_accelerators(tmp_path / "drm", fake_nvml())
    assert [(c.name, c.maker, c.memory_bytes, c.used_bytes) for c in cards] == [
        ("Card", "nvidia", 1000, 10),
        ("card0 (amdgpu)", "amd", 2000, 20),
    ]
    assert cards[0].driver == "700.1"
    assert find_accelerators(tmp_path, fake_nvml(fails=True)) == ()
    zone = tmp_path / "powercap" / "intel-rapl:0"
    zone.mkdir(parents=True)
    (zone / "energy_uj").write_text("5")
    (zone / "name").write_text("package-0\n")
    assert energy_counters(tmp_path / "powercap") == ("package-0",)


def test_weigh_keeps_its_contract_and_its_arithmetic(run_main, weights, tmp_path):
    plot = tmp_path / "memory.png"
    done = run_main(
        "weigh", *files(weights), "--context", 2048, "--parallel", 1, 6, "--budget", "2 GiB", "--plot", plot, "--json"
    )
    found = done.json["files"]
    assert [entry["level"] for entry in found] == list(LEVEL_TYPES)
    wanted = (
        "file model architecture parameters weights_bytes bits_per_weight level context_tokens layers kv_heads head_size "
        "kv_bytes_per_token licence sha256 memory"
    )
    model = MODELS["marram-1.2b"]
    for entry in found:
        assert set(wanted.split()) <= entry.keys()
        assert entry["kv_bytes_per_token"] == model.layers * model.kv_heads * model.head_size * 4
        assert (entry["licence"], entry["sha256"], entry["kv_heads"]) == ("MIT", None, 4)
        settings = [(m["context_tokens"], m["kv_bits"], m["parallel"]) for m in entry["memory"]]
        assert settings == [(2048, bits, parallel) for bits in (16, 8, 4) for parallel in (1, 6)]
        for need in entry["memory"]:
            assert (
                need["kv_bytes"]
                == entry["kv_bytes_per_token"] * 2048 * need["parallel"] * {16: 32, 8: 17, 4: 9}[need["kv_bits"]] // 32
            )
            assert need["total_bytes"] == entry["weights_bytes"] + need["kv_bytes"] + need["overhead_bytes"]
            assert need["fits"] == (need["total_bytes"] <= 2 * 2**30)
    assert [entry["memory"][0]["fits"] for entry in found] == [False, True, True, True]
    assert 0 < found[0]["memory"][0]["layers_on"] < model.layers
    ceilings = [entry["decode_ceiling_tps"] for entry in found]
    assert ceilings == sorted(ceilings)
    assert plot.read_bytes()[:8] == b"\x89PNG\r\n\x1a\n"


def test_weigh_for_people_and_with_a_policy(run_main, weights):
    given = (*files(weights), "--budget", "2 GiB", "--allow-licence", "Apache-2.0", "--overhead", "1 GiB")
    short, shown = run_main("weigh", *given).out, run_main("weigh", *given, "--wide").out
    assert "no, 10 of 22 layers would" in short and "MIT, NOT allowed" in short and "Bits per weight" not in short
    for words in (
        "MIT, NOT allowed",
        "NO 10/22",
        "Bits per weight by kind",
        "6.56 Q6_K",
        "budget 2.00 GiB, as given",
        "working overhead: 1.00 GiB, as given",
    ):
        assert words in shown
    digest = run_main("weigh", weights / "marram-q2_k.gguf", "--digest", "--json").json["files"][0]["sha256"]
    import hashlib

    assert digest == hashlib.sha256((weights / "marram-q2_k.gguf").read_bytes()).hexdigest()


@pytest.mark.parametrize(
    ("args", "words"),
    [
        (("none.gguf",), "no such file"),
        (("--budget", "much"), "--budget: is"),
        (("--overhead", "3 gulls"), 'Write a size such as "16 GiB"'),
        (("--plot", "plot.xyz"), "cannot be drawn"),
        (("--allow-licence", "free"), "not an SPDX licence"),
        (("--context", "0"), "0 is not above 0"),
    ],
)
def test_weigh_refuses_in_one_line(run_cli, weights, tmp_path, args, words):
    given = () if args[0] == "none.gguf" else (weights / "marram-q2_k.gguf",)
    done = run_cli("weigh", *given, *args, cwd=tmp_path)
    assert (done.code, words in done.err) == (2, True), done.err


def test_a_drafted_plan_needs_nothing_but_its_criteria(run_main, weights, tmp_path):
    plan = tmp_path / "plan.toml"
    server = (
        "{python} -m kettlefield.demo --weights {weights} --card card --port {port} --level {level} --context {context}"
    )
    done = run_main(
        "draft",
        *files(weights),
        "-o",
        plan,
        "--server",
        server,
        "--budget",
        "1800 MiB",
        "--accelerator",
        "simulated:card",
    )
    assert (done.code, "3 of 4 files are candidates" in done.out) == (0, True)
    assert "left out" in done.out and "marram-f16.gguf: needs 2.4" in done.out
    written = tomllib.loads(plan.read_text())
    assert [(c["model"], c["level"], c.get("reference", False)) for c in written["candidate"]] == [
        ("marram-1.2b", "q8_0", True),
        ("marram-1.2b", "q4_k_m", False),
        ("marram-1.2b", "q2_k", False),
    ]
    assert written["server"]["context"] == 8192  # the longest of our lengths that q8_0 can afford
    again = run_main("draft", *files(weights), "-o", plan)
    assert (again.code, "already exists" in again.err) == (2, True)
    for name in ("fare-quote", "drift-set", "sailing-board"):  # a suite beside the plan comes before the built-in one
        shutil.copytree(BUILT_IN / name, tmp_path / "berthdesk" / name)
    shutil.copy(BUILT_IN / "suite.toml", tmp_path / "berthdesk")
    (tmp_path / "card").mkdir()
    from kettlefield.demo.simulated_folder import CARD

    (tmp_path / "card" / "card.toml").write_text(CARD.replace("960e9", "4e12"))
    refused = run_main("qualify", plan)
    assert (refused.code, "pass_rate is not set yet. A person sets the criteria" in refused.err) == (2, True)
    text = plan.read_text()
    for threshold in ("0.5", '"1 s"', '"20 tokens/s"', '"2 GiB"'):
        text = text.replace('"to be set"', threshold, 1)
    plan.write_text(text.replace("requests = 60", "requests = 2").replace("[rig]", "[rig]\ndisturbed_above = 64.0"))
    run = run_main("qualify", plan, "--only", "*@q2_k", "--json")
    assert run.code == 0, run.err
    row = run.json["candidates"][0]
    assert row["trials"] == 6
    # the prediction: weights, one 8,192-token cache of 16 bits, overhead
    model = MODELS["marram-1.2b"]
    cache = model.layers * model.kv_heads * model.head_size * 4 * 8192
    assert abs(row["predicted_bytes"] - row["weights_bytes"] * 1.02 - cache - 256 * 2**20) < 2**16
    assert row["prediction_error"] == pytest.approx(abs(row["peak_bytes"] / row["predicted_bytes"] - 1))
    assert 0 < row["ceiling_share"] < 1


def test_a_budget_that_the_header_exceeds_is_noted_before_the_server_starts(make_plan, run_main):
    tables = {"rig": 'accelerator = "simulated:card"\ndisturbed_above = 64.0\nmemory_budget = "300 MiB"'}
    done = run_main("qualify", make_plan(candidates=(("q8_0", ""),), tables=tables), "--only", "fare-quote")
    words = "kelpling-400m@q8_0: by its header it needs 715 MiB, memory_budget is 300 MiB"
    assert (done.code, words in done.err, words in done.out) == (0, True, True)


def test_draft_refuses_what_cannot_be_a_plan(run_main, weights, tmp_path):
    for args, words in (
        (("--budget", "10 MiB"), "none of the files fits"),
        (("--server", "a 'b"), "cannot be split into words"),
    ):
        done = run_main("draft", weights / "marram-q2_k.gguf", "-o", tmp_path / "p.toml", *args)
        assert (done.code, words in done.err) == (2, True), done.err
        assert not (tmp_path / "p.toml").exists()


def test_shared_settings_blocks_styles_and_a_licence_criterion(make_plan, run_main, tmp_path):
    criteria = (
        '[settings.careful]\ntemperature = 0.0\nmax_tokens = 650\nstyle = "continuation"\n'
        '[settings.gaps]\nstyle = "infill"\ninfill_markers = ["<P>", "<S>", "<M>"]\n'
        '[[criterion]]\nmeasure = "licence"\none_of = ["MIT", "Apache-2.0"]\n'
    )
    candidates = (("q8_0", ""), ("q8_0", 'settings = "careful"'), ("q8_0", 'settings = "gaps"\ntop_k = 5'))
    plan = make_plan(candidates=candidates, model="marram-1.2b", criteria=criteria)
    done = run_main("qualify", plan, "--only", "fare-quote", "--json")
    rows = {row["candidate"]: row for row in done.json["candidates"]}
    assert list(rows) == ["marram-1.2b@q8_0", "marram-1.2b@q8_0+careful", "marram-1.2b@q8_0+gaps"]
    assert all(row["outcomes"] == {"passed": 1} for row in rows.values())
    with sqlite3.connect(tmp_path / "record.db") as connection:
        sent = [json.loads(s) for (s,) in connection.execute("SELECT sampling FROM exchange WHERE purpose = 'answer'")]
    connection.close()
    assert [(s["temperature"], s["max_tokens"], s.get("top_k")) for s in sent] == [
        (0.2, 700, 0),  # left open by the plan: a value that does nothing
        (0.0, 650, 0),
        (0.2, 700, 5),
    ]
    assert [s.get("stop") for s in sent] == [None, ["\n```"], ["\n```"]]
    shown = run_main("trials", tmp_path / "record.db", "--open", 3).out
    assert "--- sent (prompt)" in shown and "<P>could you put our crossing fares" in shown and "<M>" in shown
    verdicts = run_main("decide", tmp_path / "record.db", "--json").json["verdicts"]
    found = verdicts[0]["criteria"][0]
    wanted = {"measure": "licence", "wanted": "one of MIT, Apache-2.0", "found": "MIT", "status": "met", "reason": ""}
    assert wanted.items() <= found.items() and not (found["among"] or found["at_depth_tokens"] or found["outcomes"])
    plan.write_text(plan.read_text().replace('settings = "gaps"', 'settings = "gap"'))
    refused = run_main("qualify", plan)
    assert (refused.code, 'Did you mean "gaps"?' in refused.err) == (2, True)


def test_a_continuation_ends_at_the_marks_that_its_server_lets_through():
    from pathlib import Path

    from kettlefield.campaign.prompts import reply_text
    from kettlefield.plan.tables import PromptingTable
    from kettlefield.suite.loader import find_suite, load_exercise

    exercise = load_exercise(CHECKS, find_suite("berthdesk", Path()) / "fare-quote")
    infill = PromptingTable(style="infill", infill_markers=("<P>", "<S>", "<M>"))
    assert reply_text("code\n<S>more", exercise, infill) == "```python\ncode\n"
    assert reply_text("code</s>x", exercise, PromptingTable(style="continuation")) == "```python\ncode"
    assert reply_text("code</s>x", exercise, PromptingTable()) == "code</s>x"


def stream(text, *, reason="stop", **more):
    head = b"HTTP/1.1 200 OK\r\nContent-Type: text/event-stream\r\nConnection: close\r\n\r\n"
    events = [
        {"choices": [{"delta": {"content": text}}]},
        {"choices": [{"delta": {}, "finish_reason": reason}], **more},
    ]
    return head + b"".join(f"data: {json.dumps(event)}\n\n".encode() for event in events) + b"data: [DONE]\n\n"


def attached(make_plan, url):
    plan = make_plan()
    text = plan.read_text()
    begin = text.index("command = [")
    plan.write_text(text[:begin] + f'url = "{url}"\nready_paths = ["/any"]\n' + text[text.index("\n", begin) :])
    return plan


def test_the_guard_tells_a_wrong_style_and_changed_settings_before_hours_are_spent(
    make_plan, run_main, scripted_server
):
    url = scripted_server(stream("harbour<|turn|>\nUser: next", taken={"temperature": 0.9, "seed": 11}))
    done = run_main("qualify", attached(make_plan, url), "--only", "fare-quote")
    for words in ("the marker <|turn|>", "another speaker's turn", "temperature is 0.9, sent was 0.2"):
        assert words in done.err
        assert words in done.out  # the contrast shows the record's notes


def test_a_refused_setting_stops_the_candidate_with_its_reason(make_plan, run_main, scripted_server):
    body = b'{"error": {"message": "min_p must be below 1"}}'
    ready = b"HTTP/1.1 200 OK\r\nContent-Length: 0\r\nConnection: close\r\n\r\n"
    bad = b"HTTP/1.1 400 Bad\r\nContent-Type: application/json\r\nConnection: close\r\n\r\n" + body
    done = run_main("qualify", attached(make_plan, scripted_server(bad, get=ready)))
    assert done.code == 3
    assert "a first short request failed: it answered with status 400: min_p must be below 1" in done.err
