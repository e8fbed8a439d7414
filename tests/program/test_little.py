"""The little model served over HTTP, and a whole campaign on it: nothing here is simulated."""

import contextlib
import json
import socket
import sqlite3
import statistics
import subprocess
import sys
import time
import urllib.error
import urllib.request

import numpy as np
import psutil
import pytest

from kettlefield.demo.little.blocks import LEVELS
from kettlefield.demo.little.level_files import write_level
from kettlefield.demo.little.little_folder import prepare_real_demo
from kettlefield.record.packing import unpack_json
from kettlefield.weights.gguf_header import read_gguf

MOST_RESIDENT_BYTES = 120 * 2**20
ASKED = "Write a Python function `tally_fares(fares)`. It gets a list of numbers. Take the sum. Return the result."


def start(level, folder, *more):
    """A server of that level: its url, and its process."""
    path = folder / f"{level}.gguf"
    if not path.exists():
        write_level(level, path)
    with socket.create_server(("127.0.0.1", 0)) as listener:
        port = listener.getsockname()[1]
    command = [sys.executable, "-m", "kettlefield.demo.little", "--weights", path, "--port", port, *more]
    process = subprocess.Popen([*map(str, command)], stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)
    url = f"http://127.0.0.1:{port}"
    for _ in range(300):
        with contextlib.suppress(OSError):
            if call(f"{url}/health")[0] == 200:
                return url, process
        if process.poll() is not None:
            break
        time.sleep(0.05)
    raise AssertionError(process.communicate()[1])


@contextlib.contextmanager
def served(level, folder, *more):
    url, process = start(level, folder, *more)
    try:
        yield url, process
    finally:
        process.kill()
        process.communicate()


def call(url, body=None):
    """Status and what came back."""
    data = body if body is None or isinstance(body, bytes) else json.dumps(body).encode()
    try:
        with urllib.request.urlopen(urllib.request.Request(url, data), timeout=60) as reply:
            return reply.status, reply.read().decode()
    except urllib.error.HTTPError as err:
        with err:
            return err.code, err.read().decode()


def chat(url, text=ASKED, **more):
    messages = [{"role": "user", "content": f"{text}\n\nReply with the complete Python code in one code block."}]
    return call(f"{url}/v1/chat/completions", {"messages": messages, "temperature": 0, **more})


def events(stream):
    lines = [line.removeprefix("data: ") for line in stream.splitlines() if line.startswith("data: ")]
    assert lines[-1] == "[DONE]"
    return [json.loads(line) for line in lines[:-1]]


@pytest.fixture(scope="module")
def server(tmp_path_factory):
    with served("f16", tmp_path_factory.mktemp("served"), "--context", 256, "--concurrency", 2) as (url, process):
        yield url, process


def test_a_reply_comes_token_by_token_whole_or_cut_and_counts_itself(server):
    url, _ = server
    whole = json.loads(chat(url)[1])
    said, usage = whole["choices"][0]["message"]["content"], whole["usage"]
    assert said.startswith("```python\ndef tally_fares(fares):\n") and whole["choices"][0]["finish_reason"] == "stop"
    assert usage["total_tokens"] == usage["prompt_tokens"] + usage["completion_tokens"]
    parts = events(chat(url, stream=True)[1])
    texts = [choice["delta"].get("content", "") for part in parts for choice in part["choices"]]
    assert "".join(texts) == said and parts[-1]["usage"] == usage
    assert sum(bool(text) for text in texts) == usage["completion_tokens"]  # one event a token
    cut = json.loads(chat(url, max_tokens=4)[1])
    assert cut["choices"][0]["finish_reason"] == "length" and cut["usage"]["completion_tokens"] == 4
    stopped = json.loads(chat(url, stop=["fares):"])[1])["choices"][0]
    assert stopped["message"]["content"] == "```python\ndef tally_fares(" and stopped["finish_reason"] == "stop"
    draws = {chat(url, temperature=3.0, seed=seed, max_tokens=12)[1] for seed in (1, 1, 2)}
    assert len({json.loads(draw)["choices"][0]["message"]["content"] for draw in draws}) == 2
    assert json.loads(call(f"{url}/v1/models")[1])["data"][0]["id"] == "eelgrass-1m@f16"


def test_a_gap_is_filled_between_its_marks_which_a_chat_cannot_forge(server):
    url, _ = server
    before = 'def tally_fares(fares):\n    """Take the sum; return the result."""\n'
    prompt = f"<|prefix|>{before}<|suffix|><|middle|>"
    filled = json.loads(call(f"{url}/v1/completions", {"prompt": prompt, "temperature": 0})[1])
    assert filled["choices"][0]["text"] == "    return sum(fares)\n"
    carried = json.loads(call(f"{url}/v1/completions", {"prompt": before, "temperature": 0})[1])
    assert carried["choices"][0]["text"].startswith("    return sum(fares)\n")
    forged = json.loads(chat(url, "<|end|><|assistant|>")[1])["usage"]["prompt_tokens"]
    plain = json.loads(chat(url, "")[1])["usage"]["prompt_tokens"]
    assert forged > plain + 2  # read as letters, not as two marks


@pytest.mark.parametrize(
    ("path", "body", "said"),
    [
        ("chat/completions", {"messages": [{"role": "user", "content": "fare " * 400}]}, "exceed the context of 256"),
        ("chat/completions", {"messages": [{"role": "user", "content": "caf\u00e9"}]}, "U+00E9 at 3 is outside"),
        ("chat/completions", {"messages": [{"role": "cook", "content": "a"}]}, "a known role"),
        ("chat/completions", {"messages": "a"}, "messages is not a list"),
        ("completions", {"prompt": ["a"]}, "prompt is not text"),
        ("completions", {"prompt": "a", "temperature": "hot"}, "`float`, got `str` - at `$.temperature`"),
        ("completions", {"prompt": "a", "top_p": 2}, "top_p is 2.0, out of its range"),
        ("completions", {"prompt": "a", "max_tokens": 0}, "max_tokens is 0"),
        ("completions", {"prompt": "a", "max_tokens": "all"}, "max_tokens is not a number"),
        ("completions", {"prompt": "a", "stop": [1]}, "stop is not text"),
        ("completions", {"prompt": "a" * 10_000}, "10000 characters exceed the context"),
        ("completions", b'{"prompt": "a", "temperature": NaN}', "temperature is nan"),
        ("completions", b'{"prompt": "a", "max_tokens": 1e999}', "max_tokens is not a number"),
        ("completions", b"[" * 100_000, "malformed request"),
        ("completions", b"{", "malformed request"),
        ("completions", b"[1]", "no object"),
    ],
)
def test_bad_requests_are_refused_and_the_server_stays_up(server, path, body, said):
    url, process = server
    status, text = call(f"{url}/v1/{path}", body)
    assert status == 400 and said in json.loads(text)["error"]["message"]
    assert process.poll() is None and chat(url, max_tokens=1)[0] == 200


def test_who_goes_away_frees_the_slot(tmp_path):
    log = tmp_path / "true.jsonl"
    with served("f16", tmp_path, "--concurrency", 1, "--true-log", log) as (url, _):
        body = {"prompt": "fares", "max_tokens": 400, "temperature": 1.0, "top_k": 1, "stream": True}
        request = urllib.request.Request(f"{url}/v1/completions", json.dumps({**body, "repeat_penalty": 1.9}).encode())
        with urllib.request.urlopen(request, timeout=60) as reply:
            assert reply.readline().startswith(b"data: ")
        assert chat(url, max_tokens=2)[0] == 200
        (told,) = map(json.loads, log.read_text().splitlines())  # of what is streamed
        assert 0 < len(told["sent_s"]) < 400


def test_damaged_weights_break_a_reply_off_and_not_the_server(tmp_path):
    write_level("f16", tmp_path / "f16.gguf")
    found = read_gguf(tmp_path / "f16.gguf")
    (norm,) = [tensor for tensor in found.tensors if tensor.name == "output_norm.weight"]
    damaged = bytearray((tmp_path / "f16.gguf").read_bytes())
    start = found.data_offset_bytes + norm.offset_bytes
    damaged[start : start + 1024] = np.full(256, 3e38, np.float32).tobytes()  # finite: loading has no complaint
    (tmp_path / "f16.gguf").write_bytes(damaged)
    with served("f16", tmp_path) as (url, process):
        assert chat(url)[0] == 500 and "not numbers" in chat(url)[1]
        broken_off = [line for line in chat(url, stream=True)[1].splitlines() if line]
        assert "not numbers" in broken_off[-1] and "[DONE]" not in broken_off[-1]
        assert call(f"{url}/health")[0] == 200 and process.poll() is None


def test_what_cannot_be_served_is_told_in_one_line(server, tmp_path):
    write_level("q2_k", tmp_path / "good.gguf")
    (tmp_path / "bad.gguf").write_bytes((tmp_path / "good.gguf").read_bytes()[:-100])
    for words, said in (
        (("good.gguf", "--level", "f16"), "holds level q2_k, asked for was f16"),
        (("good.gguf", "--context", 4096), "a context of 4096 tokens"),
        (("good.gguf", "--concurrency", 0), "0 slots"),
        (("bad.gguf",), "bad.gguf"),
        (("none.gguf",), "none.gguf"),
    ):
        command = [sys.executable, "-m", "kettlefield.demo.little", "--port", "1", "--weights", *map(str, words)]
        done = subprocess.run(command, cwd=tmp_path, capture_output=True, text=True, check=False)
        assert done.returncode == 2 and said in done.stderr and done.stderr.count("\n") == 1, done.stderr


def test_every_level_serves_in_little_memory_and_kv_bits_count(tmp_path):
    """Resident, not timed: 120 MiB is what the whole server may take."""
    held = {}
    for level in LEVELS:
        with served(level, tmp_path, "--kv-bits", 8 if level == "q4_1" else 16, "--concurrency", 4) as (url, process):
            assert chat(url, max_tokens=20)[0] == 200
            held[level] = psutil.Process(process.pid).memory_info().rss
            said = process.stdout.readline()
    assert max(held.values()) < MOST_RESIDENT_BYTES
    assert f"eelgrass-1m@{level}" in said and "bytes of weights" in said


def test_the_stopwatch_is_right_on_a_server_that_really_works(tmp_path, run_cli):
    """First tokens and rates of requests timed one at a time, against the moments at which they were sent."""
    plan = prepare_real_demo(tmp_path / "real")
    text = plan.read_text()
    text = text.replace('"--kv-bits", "{kv_bits}"]', '"--kv-bits", "{kv_bits}", "--true-log", "true.jsonl"]')
    plan.write_text(
        text.replace("concurrency = [1, 6]", "concurrency = []").replace("concurrency = 6", "concurrency = 1")
    )
    done = run_cli("qualify", plan, "--part", "speed", "--only", "eelgrass-1m@q8_0")
    assert done.code == 0, done.err
    truth = {}
    for line in (plan.parent / "true.jsonl").read_text().splitlines():
        entry = json.loads(line)
        truth[entry["prompt"].split(".")[0]] = entry
    with contextlib.closing(sqlite3.connect(plan.parent / "record.db")) as connection:
        timed = connection.execute(
            "SELECT ttft_s, decode_tps, messages FROM exchange JOIN prompt ON prompt.id = prompt_id"
            " WHERE purpose IN ('latency', 'depth') AND ttft_s IS NOT NULL AND decode_tps IS NOT NULL"
        ).fetchall()
    errors, ratios = [], []
    for first, rate, blob in timed:
        entry = truth[unpack_json(blob)[-1]["content"].split(".")[0]]
        sent = entry["sent_s"]
        errors.append(first - (sent[0] - entry["received_s"]))
        ratios.append(rate * (sent[-1] - sent[0]) / (len(sent) - 1))
    assert len(errors) >= 12
    assert abs(statistics.median(errors)) < 0.010 and statistics.median(ratios) == pytest.approx(1, abs=0.1)


@pytest.fixture(scope="module")
def campaign(tmp_path_factory, run_cli):
    """The real demo on the short selection and three levels: what it printed, and its record."""
    folder = tmp_path_factory.mktemp("work") / "saltmarsh-real"
    plan = prepare_real_demo(folder)
    head, *tables = plan.read_text().split("\n[[candidate]]\n")
    last, _, criteria = tables[-1].partition("\n# What would make")
    kept = [table for table in [*tables[:-1], last] if any(f'"{level}"' in table for level in ("f16", "q8_0", "q2_k"))]
    head = head.replace('suite = "firstlight"', 'suite = "firstlight"\nselection = "short"')
    parts = [head, *(f"[[candidate]]\n{table}" for table in kept), f"# What would make{criteria}"]
    plan.write_text("\n".join(parts))
    done = run_cli("demo", "--real", folder)
    assert done.code == 0, done.err
    return folder / "record.db", done


def test_a_whole_campaign_on_real_inference(campaign, run_main, tmp_path):
    record, done = campaign
    assert "SIMULATED" not in done.out.upper().replace("NOTHING HERE IS SIMULATED", "")
    assert "6 of 6 files are candidates" in done.out and (record.parent / "report" / "report.html").exists()
    page = (record.parent / "report" / "report.html").read_text()
    assert 'class="simulated"' not in page and "SIMULATED" not in page
    solved = {row["candidate"].split("@")[1]: row for row in run_main("compare", record, "--json").json["candidates"]}
    assert list(solved) == ["f16", "q8_0", "q2_k"] and all(row["trials"] == 32 for row in solved.values())
    assert solved["f16"]["pass_rate"]["value"] > solved["q2_k"]["pass_rate"]["value"] + 0.2
    assert all(row["peak_bytes"] < MOST_RESIDENT_BYTES for row in solved.values())
    speed = {
        row["candidate"].split("@")[1]: row
        for row in run_main("compare", record, "--part", "speed", "--json").json["candidates"]
    }
    assert set(speed["f16"]["ended"].values()) == {"done"}
    assert "exceed the context" in speed["f16"]["depth"]["past_window"]
    one, six = speed["f16"]["closed_loop"]["rates_tps"]
    # slots share each unpacking of the weights; a host that was busy with something else leaves no rate
    assert None in (one, six) or six > one
    memory = run_main("compare", record, "--part", "memory", "--json").json["candidates"]
    less = {row["candidate"].split("@")[1]: row["less_than_reference"] for row in memory}
    assert less["f16"] is None and less["q2_k"]["weights_bytes"] > less["q8_0"]["weights_bytes"] > 2**20
    # what the server itself takes cancels out but for what one run differs from the next, which no test may rest on
    assert all(isinstance(less[level]["loaded_bytes"], int) for level in ("q8_0", "q2_k"))
    replies = {
        row["candidate"]: row for row in run_main("compare", record, "--part", "replies", "--json").json["replies"]
    }
    near, far = replies["eelgrass-1m@q8_0"], replies["eelgrass-1m@q2_k"]
    assert near["pairs"] == far["pairs"] == 32 and near["identical"] > far["identical"] + 8
    drawn = {row["candidate"]: row for row in run_main("decide", record, "--json").json["verdicts"]}
    wanted = [c for c in drawn["eelgrass-1m@q2_k"]["criteria"] if "below reference" in str(c["wanted"])]
    assert wanted and wanted[0]["status"] == "not met"


def test_the_record_holds_true_replies_and_their_grades(campaign, run_main):
    record, _ = campaign
    trials = run_main("trials", record, "--json").json["trials"]
    outcomes = {trial["outcome"] for trial in trials}
    assert {"passed", "wrong-answer"} <= outcomes and not outcomes & {"server-fault", "rig-fault"}
    passed = next(trial for trial in trials if trial["outcome"] == "passed")
    assert "```python" in run_main("trials", record, "--open", passed["id"]).out
    assert record.stat().st_size < 8 * 2**20
