"""A model served over stdio: the documented example, and children that misbehave."""

import asyncio
import sys
from pathlib import Path

import pytest

from kettlefield.core.errors import ServerError
from kettlefield.server.backend import BACKENDS, Talk
from kettlefield.server.exchange import Ask
from kettlefield.server.process import Launch

EXAMPLE = Path(__file__).parents[2] / "docs" / "reference" / "stdio_example.py"
ASK = Ask(messages=({"role": "user", "content": "which berth is free"},), sampling={"seed": 1})
LOOP = "import json, sys, time\ndef send(**m):\n    print(json.dumps({'jsonrpc': '2.0', **m}), flush=True)\nfor line in sys.stdin:\n    r = json.loads(line)\n    n = r['id']\n    if r['method'] == 'describe':\n        send(id=n, result={})\n    else:\n"


def launch(tmp_path, *words, within=20.0):
    return Launch(
        command=("{python}", *map(str, words)), fields={}, ready_paths=(), ready_within_s=within,
        log=tmp_path / "log", folder=tmp_path,
    )  # fmt: skip


def talk(tmp_path, *words, asks=1, reply_within_s=20.0, within=20.0):
    """Start, ask, stop; the exchanges, the server and its process's end."""

    async def run():
        backend = BACKENDS["stdio"].open(launch(tmp_path, *words, within=within), Talk(reply_within_s=reply_within_s))
        async with backend as server:
            await server.ready()
            return server, await asyncio.gather(*(server.client.ask(ASK) for _ in range(asks)))

    return asyncio.run(run())


def test_the_documented_example_is_timed_and_read(tmp_path):
    assert len(EXAMPLE.read_text().splitlines()) <= 45
    server, exchanges = talk(tmp_path, EXAMPLE, asks=3)
    assert server.description == "example-model" and not server.is_alive
    for exchange in exchanges:
        assert exchange.fault is None and exchange.text.startswith("```python\ndef berth")
        assert (exchange.trace.prompt_tokens, exchange.trace.completion_tokens) == (4, 4)
        assert len(exchange.trace.stamps_s) == 4 and exchange.finish_reason == "stop"
        assert list(exchange.trace.stamps_s) == sorted(exchange.trace.stamps_s)


@pytest.mark.parametrize(
    ("body", "said"),
    [
        ("        sys.exit(3)", "ended"),
        ("        send(id=n, error={'code': -1, 'message': 'no \\x1b[31mmemory'})", "no "),
        ("        send(id=n, result={'usage': 'many'})", "nonsense"),
        ("        print('x' * (5 * 2**20), flush=True)", "more than 4 MiB"),
        ("        time.sleep(60)", "no end of its reply within"),
    ],
)
def test_a_child_that_fails_ends_in_a_fault_and_not_in_a_traceback(tmp_path, body, said):
    slow = 1.0 if "sleep" in body else 20.0
    _, (exchange,) = talk(tmp_path, "-c", LOOP + body, reply_within_s=slow)
    assert said in exchange.fault and "\x1b" not in exchange.fault


def test_prints_of_the_scripts_own_go_to_the_log_and_thinking_is_told_apart(tmp_path):
    body = (
        "        print('loading layer 3', flush=True)\n"
        "        send(method='token', params={'id': n, 'text': 'hm', 'thinking': True})\n"
        "        send(method='token', params={'id': 99, 'text': 'stray'})\n"
        "        send(method='token', params={'id': n, 'text': 'North 1'})\n        send(id=n, result={})\n"
    )
    _, (exchange,) = talk(tmp_path, "-c", LOOP + body)
    assert (exchange.thinking, exchange.text, exchange.fault) == ("hm", "North 1", None)
    assert "loading layer 3" in (tmp_path / "log").read_text()


def test_a_child_that_is_gone_before_it_can_be_asked_is_named_with_its_last_words(tmp_path):
    async def run():
        words = ("-c", "raise SystemExit('no weights')")
        async with BACKENDS["stdio"].open(launch(tmp_path, *words, within=20.0), Talk(reply_within_s=20.0)) as server:
            while server.is_alive:
                await asyncio.sleep(0.01)
            await server.ready()

    with pytest.raises(ServerError, match="no weights"):
        asyncio.run(run())


@pytest.mark.parametrize(("script", "said"), [("raise SystemExit('no weights')", "no weights"), ("import time\ntime.sleep(60)", "did not answer")])  # fmt: skip
def test_a_child_that_never_describes_itself_is_named_with_its_last_words(tmp_path, script, said):
    with pytest.raises(ServerError, match=said):
        talk(tmp_path, "-c", script, within=1.0 if "sleep" in script else 20.0)


def test_a_campaign_over_stdio(make_plan, run_cli, tmp_path):
    plan = make_plan(
        command=[sys.executable, str(EXAMPLE)], tables={"speed": "requests = 2", "grading": "concurrent_trials = 2"}
    )
    plan.write_text(plan.read_text().replace("[server]\n", '[server]\nprotocol = "stdio"\n'))
    done = run_cli("qualify", plan, "--only", "fare-quote", "--json")
    assert done.code == 0, done.err
    (row,) = done.json["candidates"]
    assert row["trials"] == 1 and row["peak_bytes"] > 0 and row["ttft_s"]["p50"]["n"] in {1, 2}
    trial = run_cli("trials", tmp_path / "record.db", "--open", 1, "--json").json["trial"]
    assert trial["attempts"][0]["files"]["answer.py"].startswith("def berth")
