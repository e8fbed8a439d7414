"""What real servers do: streams that end without a word, prompts that do not fit, settings of their own, deaths."""

import asyncio
import json
import sys

import msgspec
import pytest

from kettlefield.campaign.preflight import check_session, find_fit, neutral_settings, prompt_chars, prompt_tokens
from kettlefield.campaign.prompts import render_exercise
from kettlefield.core.extraction.reply_symptoms import says_over_context
from kettlefield.core.timing.timeline import TokenCount, Trace, read_figures
from kettlefield.measure.depth import time_depths
from kettlefield.measure.procedure import Bench, Budget
from kettlefield.plan.tables import PromptingTable, SamplingTable
from kettlefield.server.backend import Talk
from kettlefield.server.exchange import Ask, Exchange, UnderWay
from kettlefield.server.http_client import HttpClient
from kettlefield.server.process import Launch, end_words
from kettlefield.server.stdio import StdioServer

from test_hostile_replies import SUITE, desk  # isort: skip

HEAD = b"HTTP/1.1 200 OK\r\nContent-Type: text/event-stream\r\nConnection: close\r\n\r\n"
ASK = Ask(messages=({"role": "user", "content": "which berth?"},), sampling={"seed": 1, "max_tokens": 8})


class Wire:
    """A server in the test's own loop: each request's body goes to a function that gives back bytes."""

    def __init__(self, answer):
        self.answer, self.bodies, self.connections = answer, [], 0

    async def __aenter__(self):
        self.server = await asyncio.start_server(self.serve, "127.0.0.1", 0)
        self.client = HttpClient(
            f"http://127.0.0.1:{self.server.sockets[0].getsockname()[1]}", reply_within_s=5, model="m"
        )
        return self

    async def __aexit__(self, *_):
        await self.client.close()
        self.server.close()

    async def serve(self, reader, writer):
        self.connections += 1
        head = await reader.readuntil(b"\r\n\r\n")
        length = next(
            int(line.split(b":")[1]) for line in head.lower().split(b"\r\n") if line.startswith(b"content-length")
        )
        self.bodies.append(json.loads(await reader.readexactly(length)))
        writer.write(self.answer(self.bodies[-1]))
        await writer.drain()
        writer.close()


def whole(text="B1", status=200, **more):
    body = {"choices": [{"message": {"content": text}, "finish_reason": "stop"}], **more}
    if status != 200:
        body = {"error": {"message": text}}
    data = json.dumps(body).encode()
    return (
        f"HTTP/1.1 {status} X\r\nContent-Type: application/json\r\nContent-Length: {len(data)}\r\n\r\n".encode() + data
    )


def stream(*texts, usage=None, reason="stop"):
    events = [{"choices": [{"delta": {"content": text}}]} for text in texts]
    events += [{"choices": [{"delta": {}, "finish_reason": reason}]}, {"choices": [], "usage": usage}]
    return HEAD + b"".join(b"data: " + json.dumps(event).encode() + b"\n\n" for event in events) + b"data: [DONE]\n\n"


def talk(answer, *, asks=1):
    async def run():
        async with Wire(answer) as wire:
            return [await wire.client.ask(ASK) for _ in range(asks)], wire

    return asyncio.run(run())


# --- streams -----------------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("plain", "fault", "over"),
    [
        (whole("the prompt has 5000 tokens, the context size is 4096", 400), "the context size is 4096", True),
        (whole("the request exceeds the available context size, try increasing it", 500), "try increasing it", True),
        (
            whole("out of memory", 500),
            "asked again without streaming it answered with status 500: out of memory",
            False,
        ),
        (HEAD, "ended its reply without saying why", False),
        (b"", "ended its reply without saying why", False),
    ],
)
def test_a_stream_that_ends_without_a_word_is_asked_for_once_more_without_streaming(plain, fault, over):
    (found,), wire = talk(lambda body: HEAD if body["stream"] else plain)
    assert fault in found.fault and found.over_context is over
    assert [body["stream"] for body in wire.bodies] == [True, False]
    assert wire.connections == 2


def test_a_reply_that_comes_only_without_streaming_is_a_reply_and_no_time_to_a_token():
    (found,), _ = talk(
        lambda body: HEAD if body["stream"] else whole("B1", usage={"prompt_tokens": 7, "completion_tokens": 3})
    )
    assert (found.fault, found.text, found.trace.stamps_s, found.trace.prompt_tokens) == (None, "B1", (), 7)
    assert read_figures(found.trace).ttft_s is None


def test_each_request_has_a_connection_of_its_own_so_none_is_used_that_was_closed():
    exchanges, wire = talk(lambda body: stream("a", "b", usage={"completion_tokens": 2}), asks=4)
    assert [exchange.fault for exchange in exchanges] == [None] * 4
    assert wire.connections == 4


def test_half_of_a_surrogate_pair_in_a_stream_is_the_replys_own():
    (found,), _ = talk(lambda body: stream("B\ud800", "1", usage={"prompt_tokens": 3, "completion_tokens": 2}))
    assert (found.fault, found.text, found.trace.prompt_tokens) == (None, "B\ud8001", 3)


@pytest.mark.parametrize(
    ("words", "over"),
    [
        ("This model's maximum context length is 4096 tokens, however you requested 5000", True),
        ("the request exceeds the available context size", True),
        ("Input is too long: 5000 tokens", True),
        ("prompt is longer than the context of the model", True),
        ("max_model_len is 4096", True),
        ("5000 prompt tokens exceed the context of 4096", True),
        ("top_k is out of its range", False),
        ("malformed request: messages is not a list of messages", False),
        ("the model is still loading", False),
        ("CUDA out of memory while allocating 5000 bytes", False),
        ("request timed out", False),
    ],
)
def test_a_servers_words_tell_whether_a_prompt_does_not_fit(words, over):
    assert says_over_context(words) is over


def test_several_tokens_an_event_are_paced_without_those_of_the_first():
    # by hand: 12 tokens in four events over 0.3 s; the first event's three came before the clock
    trace = Trace(stamps_s=(0.1, 0.2, 0.3, 0.4), thinking=(False,) * 4, finished_s=0.5, completion_tokens=12)
    figures = read_figures(trace)
    assert figures.decode_tps == pytest.approx(9 / 0.3) and figures.packed
    alone = read_figures(msgspec.structs.replace(trace, completion_tokens=None))
    assert alone.decode_tps == pytest.approx(3 / 0.3) and alone.token_count is TokenCount.EVENTS


def test_the_peak_of_requests_at_once_counts_for_the_first_of_them_too():
    under_way = UnderWay()
    with under_way.request() as first:
        with under_way.request() as second, under_way.request() as third:
            pass
        with under_way.request() as fourth:
            pass
    assert [peak[0] for peak in (first, second, third, fourth)] == [3, 3, 3, 2]
    assert [end_words(status) for status in (0, 3, -9, -200)] == [
        "ended with exit status 0", "ended with exit status 3", "was killed by signal 9 (SIGKILL)", "was killed by signal 200 (unknown)",
    ]  # fmt: skip


STDIO = """import json, sys, threading, time
def send(**m):
    sys.stdout.write(json.dumps({'jsonrpc': '2.0', **m}) + '\\n'); sys.stdout.flush()
def complete(n):
    time.sleep(0.1)
    send(method='token', params={'id': n, 'text': 'x'})
    send(id=n, result={'finish_reason': 'stop'})
for line in sys.stdin:
    r = json.loads(line)
    if r['method'] != 'complete':
        send(id=r['id'], result={})
    elif r['params']['settings'].get('seed') == 7:
        print('x' * (9 * 2**20), flush=True)
    else:
        threading.Thread(target=complete, args=(r['id'],)).start()
"""


def test_after_an_overlong_line_a_stdio_server_is_read_on(tmp_path):
    (tmp_path / "m.py").write_text(STDIO)

    async def run():
        launch = Launch(command=(sys.executable, str(tmp_path / "m.py")), fields={}, ready_paths=(), ready_within_s=20, log=tmp_path / "log", folder=tmp_path)  # fmt: skip
        server = StdioServer(launch, Talk(reply_within_s=60))
        await server.start()
        try:
            await server.ready()
            broken = await server.ask(msgspec.structs.replace(ASK, sampling={"seed": 7}))
            return broken, await asyncio.gather(server.ask(ASK), server.ask(ASK))
        finally:
            await server.stop()

    broken, both = asyncio.run(run())
    assert "more than 4 MiB" in broken.fault
    assert [(one.fault, one.text, one.concurrency) for one in both] == [(None, "x", 2)] * 2


# --- preflight ---------------------------------------------------------------------------------------------


def preflight(answer, **table):
    async def run():
        async with Wire(answer) as wire:
            sampling = SamplingTable(**table)
            sent = {"temperature": 0.0, "seed": 1, **sampling.extra}
            return await check_session(wire.client, PromptingTable(), sampling, sent), wire

    return asyncio.run(run())


def test_neutral_values_are_sent_for_what_the_plan_leaves_open_and_what_is_refused_is_named():
    def strict(body):
        unknown = [name for name in ("repetition_penalty", "min_p") if name in body]
        if unknown:
            return whole(f"unknown parameter {unknown[0]}", 400)
        return whole("top_k must be -1 or above 0", 422) if body.get("top_k") == 0 else stream("harbour")

    checked, wire = preflight(strict)
    assert dict(checked.neutral) == {
        "top_k": -1,
        "repeat_penalty": 1.0,
        "presence_penalty": 0.0,
        "frequency_penalty": 0.0,
    }
    assert checked.facts["unknown_default"] == ["min_p", "repetition_penalty"]
    assert (checked.refusal, checked.warnings) == (None, ())
    assert all(name in wire.bodies[-1] for name in checked.neutral)
    # what the plan sets, under either of two names, is left alone; and all is left alone where the plan says so
    assert "repetition_penalty" not in neutral_settings(SamplingTable(repeat_penalty=1.1))
    assert "top_k" not in neutral_settings(SamplingTable(extra={"top_k": 40}))
    checked, wire = preflight(lambda body: stream("harbour"), neutral=False, extra={"mirostat": 2})
    assert "top_k" not in wire.bodies[0] and wire.bodies[0]["mirostat"] == 2
    assert set(checked.refused) == {
        "top_k",
        "min_p",
        "repeat_penalty",
        "repetition_penalty",
        "presence_penalty",
        "frequency_penalty",
    }


def test_a_refused_setting_is_called_so_only_where_the_server_answers_that_it_refuses():
    refused, _ = preflight(
        lambda body: stream("harbour") if "temperature" not in body else whole("temperature must be above 0", 400)
    )
    assert "without the plan's sampling settings it answers" in refused.refusal
    broken, wire = preflight(lambda body: whole("engine failed", 500))
    assert "engine failed" in broken.refusal and "refused" not in broken.refusal
    assert len(wire.bodies) == 3  # with what the plan leaves open, with the plan's settings alone, and without any
    fussy, _ = preflight(lambda body: whole("unexpected argument", 500) if "min_p" in body else stream("harbour"))
    assert (fussy.refusal, fussy.refused) == (None, ("min_p",))

    async def slow():
        class Slow:
            async def ask(self, ask, *, stream=True):
                fault = "gave no end of its reply within 5 s"
                trace = Trace(stamps_s=(), thinking=(), finished_s=5.0)
                return Exchange(
                    ask=ask,
                    asked_at=0,
                    sent_s=0,
                    concurrency=1,
                    text="",
                    thinking="",
                    trace=trace,
                    finish_reason=None,
                    fault=fault,
                )

        return await check_session(Slow(), PromptingTable(), SamplingTable(), {})

    assert asyncio.run(slow()).refusal == "gave no end of its reply within 5 s"


def test_what_a_prompt_cache_explains_is_no_ignored_seed():
    def after(*texts):
        left = list(texts)
        return lambda body: stream(left.pop(0) if len(left) > 1 else left[0])

    assert preflight(after("harbour.", "harbour"))[0].warnings == ()
    (warning,) = preflight(after("harbour.", "harbour", "Harbour"))[0].warnings
    assert "ignores the seed" in warning


# --- prompts -----------------------------------------------------------------------------------------------


def counting(chars_per_token, *, in_stream=True, whole_too=True, context=10**6, cuts_at=10**6):
    """A server that counts characters, in the stream, only without one, or not at all; and may cut silently."""

    def answer(body):
        tokens = min(cuts_at, round(sum(len(message["content"]) for message in body["messages"]) / chars_per_token))
        usage = {"prompt_tokens": tokens, "completion_tokens": 2}
        if tokens >= context:
            return HEAD if body["stream"] else whole(f"{tokens} tokens exceed the context of {context}", 400)
        if body["stream"]:
            return stream("a", "b", usage=usage if in_stream else None)
        return whole("a", usage=usage if whole_too else None)

    return answer


def fit(answer, context):
    exercises = tuple(SUITE[name] for name in sorted(SUITE)[:30])
    candidate = desk(None, []).candidate
    candidate = msgspec.structs.replace(candidate, server=msgspec.structs.replace(candidate.server, context=context))

    async def run():
        async with Wire(answer) as wire:
            return await find_fit(wire.client, candidate, exercises, {}), len(wire.bodies)

    tokens = {e.id: prompt_chars(render_exercise(e, candidate.prompting)) for e in exercises}
    return asyncio.run(run()), tokens, (candidate, exercises)


def test_exercises_whose_prompts_do_not_fit_are_known_before_they_are_asked():
    (found, asked), chars, (candidate, exercises) = fit(counting(4.0), context=10**5)
    assert (found.over, asked, found.chars_per_token) == ({}, 2, pytest.approx(4.0, rel=0.01))
    edge = sorted(chars.values())[-5] // 4
    (found, asked), chars, _ = fit(counting(4.0), context=edge)
    assert (
        set(found.over) == {name for name, count in chars.items() if round(count / 4) >= edge} and len(found.over) >= 4
    )
    assert f"the context holds {edge:,}" in next(iter(found.over.values()))
    # a server that refuses tells it in its own words
    (found, _), chars, _ = fit(counting(4.0, context=edge), context=edge)
    assert len(found.over) >= 4 and "exceed the context" in next(iter(found.over.values()))
    # so does one that cuts them silently
    (found, _), chars, _ = fit(counting(4.0, cuts_at=edge - 20), context=edge)
    longer = {name for name, count in chars.items() if round(count / 4) >= edge}
    assert found.over and set(found.over) <= longer  # those only just beyond cannot be told from what fits
    assert "the server cut its prompt to" in next(iter(found.over.values()))
    # one that counts nothing leaves it open, and an estimate is told as one
    (found, _), chars, _ = fit(counting(4.0, in_stream=False, whole_too=False), context=edge)
    assert (found.over, found.chars_per_token) == ({}, None)
    assert prompt_tokens(candidate, exercises, None)["berth-clashes"] == round(chars["berth-clashes"] / 3.2)


@pytest.mark.parametrize(("in_stream", "whole_too"), [(True, True), (False, True), (False, False)])
def test_a_depth_is_counted_by_the_server_or_marked_as_a_guess(in_stream, whole_too):
    async def run():
        async with Wire(counting(2.5, in_stream=in_stream, whole_too=whole_too)) as wire:
            bench = Bench(
                client=wire.client, sampling={}, budget=Budget(60), is_alive=lambda: True, chars_per_token=2.5,
                frame=lambda text: Ask(messages=({"role": "user", "content": text},), sampling={}),
                counts_apart=not in_stream, prompts_guessed=not whole_too,
            )  # fmt: skip
            return [item async for item in time_depths(bench, (400,), window=4000, repeats=2, reply_tokens=2)]

    *timed, _ = asyncio.run(run())
    for item in timed:
        assert item.point.get("guessed", False) is (not whole_too)
        tokens = item.exchange.trace.prompt_tokens
        assert tokens is None if not whole_too else tokens == pytest.approx(400, rel=0.06)
