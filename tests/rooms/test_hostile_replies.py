"""Whatever a model writes, its trial ends in an outcome: hostile answers, forged frames, and a storm of odd replies."""

import asyncio
import json
import logging
import re
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import pytest
from exercises import grader
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from kettlefield.campaign import trial_runner as answers
from kettlefield.core.errors import RigError
from kettlefield.core.outcome import Outcome
from kettlefield.core.plaintext import is_safe_name, visible
from kettlefield.core.timing.timeline import Trace
from kettlefield.grading.checks.all_checks import CHECKS
from kettlefield.grading.grader import Grade, Grader
from kettlefield.grading.results import Opaque, frames_of, plain_value, show
from kettlefield.measure.settings import MemoryTable, SpeedTable
from kettlefield.plan.candidates import Candidate
from kettlefield.plan.tables import GradingTable, PromptingTable, SamplingTable, ServerTable
from kettlefield.sandbox.job import Job, RunLimits, RunReport
from kettlefield.sandbox.runner import Sandbox
from kettlefield.server.exchange import Exchange
from kettlefield.suite.loader import find_suite, load_suite

SUITE = {e.id: e for e in load_suite(CHECKS, find_suite("berthdesk", Path())).exercises}
# writes frames of its own with the harness's nonce, and ends before the harness can
FORGE = """import os, sys
def fare_quote(*a):
    f = sys._getframe()
    while 'job' not in f.f_locals:
        f = f.f_back
    for line in %r:
        os.write(int(sys.argv[1]), (f.f_locals['job']['nonce'] + ' ' + line + '\\n').encode())
    os._exit(0)
"""
PYTHON = {
    "a number that is none": "{'$number': 'zzz'}",
    "a number in an object": "{'$number': '1240'}",
    "a list of them": "[{'$number': 'zzz'}, {'$number': '1'}, {'$pairs': 3}, {'$object': []}]",
    "keys that are escaped already": "{'$$number': 1}",
    "halves of surrogate pairs": "'\\ud800' * 3",
    "a key that is half of a pair": "{'\\udc00': 1}",
    "a whole number beyond floats": "10 ** 400",
    "a whole number beyond what is printed": "10 ** 5000",
    "keys that JSON cannot tell apart": "{1: 2, '1': 3}",
    "infinities": "[float('inf'), float('nan')]",
}
FORGED = [
    ['{"case":0,"error":"boom"}'],
    ['{"case":0,"error":{"type":1,"message":[]}}', '{"case":"0","value":1240}'],
    ['{"build":"boom"}', '{"load":7}', '{"case":0,"steps":3}', "[]", "7", '"x"'],
    ['{"case":0,"value":' + "[" * 3000 + "]" * 3000 + "}"],
    ['{"case":0,"value":{"$number":"zzz"}}', '{"case":1,"value":{"$pairs":{"a":[]}}}'],
    ['{"case":0,"value":"\\ud800"}', '{"case":1,"error":{"type":"\\ud800","message":"\\ud800"}}'],
    ['{"case":0,"value":' + "9" * 6000 + "}"],
    ['{"case":' + "9" * 400 + ',"value":1}', '{"case":true,"value":1}', '{"case":null}'],
]


@pytest.mark.parametrize("name", PYTHON)
def test_a_python_answer_that_returns(name):
    found = grader().grade_files(
        SUITE["fare-quote"], {"answer.py": f"def fare_quote(*a):\n    return {PYTHON[name]}\n"}
    )
    assert found.outcome in {Outcome.WRONG_ANSWER, Outcome.CRASHED}
    assert found.checks[0].detail.isprintable() and found.checks[0].cases_passed == 0


@pytest.mark.parametrize(
    "value", ["{$number: 'zzz'}", "[{$number: '1'}, {$object: 1}]", "'\\ud800'", "{'\\udc00': NaN}", "10n ** 40n"]
)
def test_a_javascript_answer_that_returns(value):
    found = grader().grade_files(SUITE["drift-set"], {"answer.js": f"function driftCode(r) {{ return {value}; }}"})
    assert found.outcome in {Outcome.WRONG_ANSWER, Outcome.CRASHED} and found.checks[0].detail.isprintable()


@pytest.mark.parametrize("lines", FORGED)
def test_frames_forged_with_the_real_nonce_are_read_with_suspicion(lines):
    found = grader().grade_files(SUITE["fare-quote"], {"answer.py": FORGE % (lines,)})
    assert found.outcome in {Outcome.WRONG_ANSWER, Outcome.CRASHED, Outcome.NO_BUILD}, found
    assert found.checks[0].detail.isprintable()


def test_what_stands_for_a_value_that_json_lacks_equals_no_value_an_answer_writes():
    assert plain_value({"$number": "-Infinity"}) == float("-inf")
    assert plain_value({"$$number": "1240", "a": [{"$$": 1}]}) == {"$number": "1240", "a": [{"$": 1}]}
    for forged in ({"$number": "1240"}, {"$number": 5}, {"$object": "set", "x": 1}, {"$pairs": [1]}):
        assert isinstance(plain_value(forged), Opaque)
        assert show(plain_value(forged))


@pytest.mark.parametrize(
    "reply",
    [
        "`till.py`\n```python\nx = 1\n```\n`tariff.py`\n```python\ny = 1\n```\n`tariff.py/test_tariff.py`\n```python\nz = 1\n```",
        "`tariff.py/a.py`\n```python\nz = 1\n```\n`till.py`\n```python\nx = 1\n```\n`tariff.py`\n```python\ny = 1\n```",
        "```diff\n--- /dev/null\n+++ b/till.py\n@@ -0,0 +1 @@\n+x = 1\n```",
    ],
)
def test_files_that_cannot_lie_together_are_no_fault_of_ours(reply):
    found = grader().grade_reply(SUITE["tariff-files"], reply, cap_hit=False)
    assert found.outcome not in {Outcome.RIG_FAULT, Outcome.PASSED}, found


def test_files_that_cannot_be_staged_are_told_in_words():
    limits = RunLimits(wall_s=5, cpu_s=5, memory_bytes=2**28, output_bytes=1000)
    for files in ({"a": "1", "a/b": "2"}, {"a/b": "2", "a": "1"}, {"x" * 300: "1"}):
        with pytest.raises(RigError, match="cannot stage a file"):
            grader().sandbox.run(Job(argv=("true",), limits=limits, files=files))


# --- a storm ----------------------------------------------------------------------------------------------

FORMS = ("fare-quote", "drift-set", "weighbridge-tally", "tariff-files", "last-berth", "pilot-fee", "slack-water", "explain-pence", "rope-lengths", "hold-headers")  # fmt: skip
SCRAPS = [
    *(
        "```",
        "```python\n",
        "```js\n",
        "````\n",
        "~~~",
        "\n",
        "    ",
        "> ",
        "- ",
        "1. ",
        "<think>",
        "</think>",
        "`answer.py`\n",
    ),
    *(
        "--- a/answer.py\n+++ b/answer.py\n",
        "@@ -1 +1 @@\n",
        "-x\n+y\n",
        "+++ /dev/null\n",
        "<<<<<<< SEARCH\n",
        "=======\n",
    ),
    *(
        ">>>>>>> REPLACE\n",
        "`../../x.py`\n",
        "`a.py/b.py`\n",
        "`till.py`\n",
        "def fare_quote(*a):\n    return 1\n",
        "\ud800",
        "\0",
    ),
    *(
        "<pre><code>",
        "</code></pre>",
        "<!doctype html>",
        "<script>",
        "public class A {}\n",
        "fn main() {}\n",
        "{",
        "}",
        "'''",
        ">>> ",
    ),
    *(
        "<|channel|>final<|message|>",
        "I cannot help",
        "import polars\n",
        "select 1;\n",
        "\u201c",
        "@@ -9999999999 +1 @@\n",
    ),
]
FRAMES = [
    '{"case":0,"value":%s}',
    '{"case":0,"error":%s}',
    '{"build":%s}',
    '{"load":%s}',
    '{"case":%s,"value":1}',
    '{"case":0,"steps":%s}',
]
VALUES = [
    '"x"',
    "7",
    "null",
    "[]",
    "{}",
    '{"$number":"x"}',
    '{"type":"E","message":"m"}',
    '[{"value":1},{"error":{}}]',
    '"\\ud800"',
    "1e999",
]


@pytest.fixture
def storm(monkeypatch):
    """Runs are not carried out: each gives back frames as they are told; what is laid out is looked at."""
    given_back = {"results": "", "stdout": b"", "status": 0}

    def run(_self, job):
        for name in job.files:
            assert is_safe_name(name) or name.startswith((".harness/", ".made/", ".inputs/", "answer/")), name
        text = job.stdin.decode("utf-8", "replace") + " ".join(job.argv)
        nonce = next(iter(re.findall(r"\b[0-9a-f]{32}\b", text)), "0" * 32)
        results = "".join(f"{nonce} {line}\n" for line in given_back["results"].split("\n"))
        return RunReport(
            exit_status=given_back["status"], stdout=given_back["stdout"], stderr=b"", wall_s=0.0,
            results=results.encode("utf-8", "surrogatepass"),
        )  # fmt: skip

    monkeypatch.setattr(Sandbox, "run", run)
    return given_back


@pytest.mark.parametrize("form", FORMS)
def test_no_reply_raises(form, storm):
    exercise = SUITE[form]
    own = "\n".join(f"`{name}`\n```\n{text}```\n" for name, text in exercise.answer.items())
    pieces = st.one_of(
        st.sampled_from(SCRAPS), st.sampled_from(own.splitlines(keepends=True)), st.text(max_size=12), st.just(own)
    )

    @settings(
        max_examples=250,
        deadline=None,
        suppress_health_check=[HealthCheck.function_scoped_fixture, HealthCheck.too_slow],
    )
    @given(
        st.lists(pieces, max_size=14).map("".join),
        st.lists(
            st.tuples(st.sampled_from(FRAMES), st.sampled_from(VALUES)).map(lambda pair: pair[0] % pair[1]), max_size=4
        ),
        st.binary(max_size=12),
        st.booleans(),
    )
    def no_reply_raises(reply, frames, stdout, cap_hit):
        storm.update(results="\n".join(frames), stdout=stdout)
        found = grader().grade_reply(exercise, reply, cap_hit=cap_hit)
        assert isinstance(found.outcome, Outcome)
        assert all(is_safe_name(name) for name in found.answer.files)
        assert all(check.detail == visible(check.detail) for check in found.checks)

    no_reply_raises()


# --- faults of our own ------------------------------------------------------------------------------------


def exchange(text="", **more):
    trace = Trace(stamps_s=(0.1,) if text else (), thinking=(False,) if text else (), finished_s=0.2)
    defaults = {
        "asked_at": 0.0,
        "sent_s": 0.0,
        "concurrency": 1,
        "thinking": "",
        "trace": trace,
        "finish_reason": "stop",
    }
    return Exchange(**(defaults | {"ask": more.pop("ask", None), "text": text} | more))


def desk(client, saved, *, alive=lambda: True, save=None, over=(), samples=1):
    candidate = Candidate(
        model="m", level="l", weights=None, reference=False, baseline=False, settings_name=None, server=ServerTable(url="http://x"),
        prompting=PromptingTable(), sampling=SamplingTable(), speed=SpeedTable(), memory=MemoryTable(),
        grading=GradingTable(samples=samples, concurrent_trials=2, fault_retries=0),
    )  # fmt: skip
    return answers.Desk(
        candidate=candidate, candidate_id=1, session_id=1, client=client, server_is_alive=alive, grader=grader(),
        threads=ThreadPoolExecutor(2), save=save or saved.append, neutral={}, over_context=dict.fromkeys(over, "too long"),
    )  # fmt: skip


class Client:
    """Answers as it is told, one reply after the other."""

    def __init__(self, *replies):
        self.replies, self.asked = list(replies), 0

    async def ask(self, ask, *, stream=True):
        self.asked += 1
        given = self.replies.pop(0) if len(self.replies) > 1 else self.replies[0]
        return exchange(**({"ask": ask} | (given() if callable(given) else given)))


@pytest.mark.parametrize("kind", [AttributeError, StopIteration])  # a future never ends with the second
def test_a_fault_of_our_own_is_that_trials_alone(monkeypatch, caplog, kind):
    def broken(_self, exercise, reply, **_more):
        if exercise.id == "fare-quote":
            raise kind("boom")
        return Grade(outcome=Outcome.PASSED, score=1.0, answer=answers.broken_grade("").answer, checks=())

    monkeypatch.setattr(Grader, "grade_reply", broken)
    saved = []
    with caplog.at_level(logging.ERROR):
        asyncio.run(
            answers.run_answers(
                desk(Client({"text": "x"}), saved),
                [answers.Due(SUITE[n], 1) for n in ("fare-quote", "drift-set", "deck-lanes")],
            )
        )
    outcomes = {entry.exercise_id: entry.outcome for entry in saved}
    assert outcomes == {"fare-quote": Outcome.RIG_FAULT, "drift-set": Outcome.PASSED, "deck-lanes": Outcome.PASSED}
    (fault,) = (entry.attempts[0].fault for entry in saved if entry.outcome is Outcome.RIG_FAULT)
    assert "trial m@l, fare-quote, sample 1" in fault and f"{kind.__name__}: boom" in fault
    assert "Traceback" in caplog.text and "boom" in caplog.text


def test_a_trial_that_cannot_be_kept_as_it_is_is_kept_as_a_fault_and_a_full_disk_ends_the_campaign(monkeypatch):
    grade = Grade(outcome=Outcome.PASSED, score=1.0, answer=answers.broken_grade("").answer, checks=())
    monkeypatch.setattr(Grader, "grade_reply", lambda *a, **k: grade)
    saved = []

    def save(entry):
        if entry.outcome is Outcome.PASSED and entry.exercise_id == "fare-quote":
            raise UnicodeEncodeError("utf-8", "\ud800", 0, 1, "surrogates not allowed")
        saved.append(entry)

    asyncio.run(
        answers.run_answers(
            desk(Client({"text": "x"}), saved, save=save),
            [answers.Due(SUITE[n], 1) for n in ("fare-quote", "drift-set")],
        )
    )
    assert {entry.exercise_id: entry.outcome for entry in saved} == {
        "fare-quote": Outcome.RIG_FAULT,
        "drift-set": Outcome.PASSED,
    }

    def full(entry):
        raise RigError("cannot be written", "record", "Make room.")

    with pytest.raises(ExceptionGroup):
        asyncio.run(
            answers.run_answers(desk(Client({"text": "x"}), saved, save=full), [answers.Due(SUITE["fare-quote"], 1)])
        )


def test_what_does_not_fit_the_context_is_not_asked_or_told_by_the_servers_words():
    saved, client = (
        [],
        Client({"fault": "answered with status 400: prompt is too long", "refused": True, "over_context": True}),
    )
    asyncio.run(
        answers.run_answers(
            desk(client, saved, over=("fare-quote",)), [answers.Due(SUITE[n], 1) for n in ("fare-quote", "drift-set")]
        )
    )
    assert {entry.exercise_id: (entry.outcome, entry.attempts[0].exchange is None) for entry in saved} == {
        "fare-quote": (Outcome.OVER_CONTEXT, True),
        "drift-set": (Outcome.OVER_CONTEXT, False),
    }
    assert client.asked == 1


def test_when_a_server_dies_only_what_was_in_flight_is_a_fault():
    alive = [True]

    def dies():
        alive[0] = False
        return {"fault": "broke off (ServerDisconnectedError)"}

    saved, client = [], Client({"text": ""}, dies, {"fault": "refused", "sent": False})
    names = ("fare-quote", "drift-set", "deck-lanes", "berth-clashes", "buoy-gap-fill")
    asyncio.run(
        answers.run_answers(desk(client, saved, alive=lambda: alive[0]), [answers.Due(SUITE[n], 1) for n in names])
    )
    assert [entry.outcome for entry in saved].count(Outcome.SERVER_FAULT) == 1
    assert len(saved) <= 3  # the others were never asked, and stay to be done


def test_a_server_that_takes_no_connections_is_asked_nothing_and_nothing_is_recorded():
    saved, client = [], Client({"fault": "broke off (ClientConnectorError)", "sent": False})
    asyncio.run(
        answers.run_answers(
            desk(client, saved), [answers.Due(SUITE["fare-quote"], 1), answers.Due(SUITE["drift-set"], 1)]
        )
    )
    assert saved == []


def test_the_frames_of_a_harness_come_through(tmp_path):
    line = json.dumps({"case": 2, "value": "\ud800", "more": 1})
    (frame,) = frames_of(f"n {line}\nm {line}\nn [1]\n".encode(), "n")
    assert (frame.case, frame.value) == (2, "\ud800")
