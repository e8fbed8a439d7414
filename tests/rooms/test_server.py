"""The client and the event stream, against servers that answer exactly as told."""

import asyncio
import json
import sys

import pytest
from hypothesis import given
from hypothesis import strategies as st

from kettlefield.core.errors import InputError, ServerError
from kettlefield.core.timing.timeline import read_figures
from kettlefield.server.events import EventStream
from kettlefield.server.exchange import Ask
from kettlefield.server.http_client import HttpClient
from kettlefield.server.process import Launch, fill_command, start_server

HEAD = b"HTTP/1.1 200 OK\r\nContent-Type: text/event-stream\r\nConnection: close\r\n\r\n"
DONE = b"data: [DONE]\n\n"


def event(delta=None, *, end="\n\n", **more):
    choices = [] if delta is None else [{"index": 0, "delta": delta, "finish_reason": more.pop("reason", None)}]
    return f"data: {json.dumps({'choices': choices, **more})}{end}".encode()


def ask(url, **options):
    async def run():
        client = HttpClient(url, reply_within_s=options.pop("within_s", 5), model="m")
        try:
            return await client.ask(Ask(messages=({"role": "user", "content": "hello"},), sampling={"seed": 1}))
        finally:
            await client.close()

    return asyncio.run(run())


def parse(chunks):
    stream = EventStream()
    return [(event.kind, event.data) for chunk in chunks for event in stream.feed(chunk)]


@pytest.mark.parametrize(
    ("raw", "events"),
    [
        (b"data: a\n\n", [("message", "a")]),
        (b"data:a\r\n\r\ndata: b\r\rdata:  c\n\n", [("message", "a"), ("message", "b"), ("message", " c")]),
        (b": comment\n\ndata: a\ndata: b\n\n", [("message", "a\nb")]),
        (b"event: end\ndata\n\n", [("end", "")]),
        (b"id: 3\nretry: 9\nodd: x\ndata: a\n\ndata: lost", [("message", "a")]),
        (b"\xef\xbb\xbfdata: \xe2\x82\xac\n\n", [("message", "\u20ac")]),
        (b"event: nothing\n\n", []),
    ],
)
def test_the_event_stream_follows_the_standard(raw, events):
    assert parse([raw]) == events
    # cut anywhere, also inside a character or between CR and LF, the events are the same
    assert parse([raw[i : i + 1] for i in range(len(raw))]) == events


@given(st.lists(st.text(st.characters(blacklist_characters="\r\n", blacklist_categories=["Cs"]))), st.integers(1, 40))
def test_events_do_not_depend_on_where_the_stream_is_cut(texts, cut):
    raw = "".join(f"data: {text}\n\n" for text in texts).encode()
    assert parse([raw[i : i + cut] for i in range(0, len(raw), cut)]) == [("message", text) for text in texts]


def test_a_line_without_end_is_refused():
    stream = EventStream()
    with pytest.raises(ValueError, match="never ends"):
        for _ in range(20):
            stream.feed(b"x" * 2**20)


def test_a_whole_reply_with_usage_in_a_last_event(scripted_server):
    url = scripted_server(
        HEAD,
        event({"role": "assistant", "content": ""}),
        event({"reasoning_content": "hm"}),
        event({"content": "one "}) + event({"content": "two"}),
        event({}, reason="stop"),
        event(usage={"prompt_tokens": 7, "completion_tokens": 9}) + DONE,
    )
    found = ask(url)
    assert (found.text, found.thinking, found.finish_reason, found.fault) == ("one two", "hm", "stop", None)
    # the role-only and the empty event are not tokens
    assert (len(found.trace.stamps_s), found.trace.thinking) == (3, (True, False, False))
    figures = read_figures(found.trace)
    assert (figures.completion_tokens, figures.prompt_tokens, figures.packed) == (9, 7, True)
    assert found.concurrency == 1


def piece(index, *, id=None, name=None, arguments=None):
    function = {key: value for key, value in (("name", name), ("arguments", arguments)) if value is not None}
    return {"content": None, "tool_calls": [{"index": index, "id": id, "function": function}]}


@pytest.mark.parametrize(
    "deltas",
    [
        # several calls at once, each in fragments that come in turn
        [
            piece(0, id="a", name="read_file", arguments=""),
            piece(1, id="b", name="run", arguments='{"comm'),
            piece(0, arguments='{"path": '),
            piece(1, arguments='and": "tests"}'),
            piece(0, arguments='"a"}'),
        ],
        # whole, with arguments as an object, and without an index
        [
            piece(None, id="a", name="read_file", arguments={"path": "a"}),
            piece(None, id="b", name="run", arguments={"command": "tests"}),
        ],
        # the name is repeated with every fragment
        [
            piece(0, id="a", name="read_file", arguments='{"path": '),
            piece(0, id="a", name="read_file", arguments='"a"}'),
            piece(1, id="b", name="run", arguments='{"command": "tests"}'),
        ],
    ],
)
def test_calls_of_functions_come_together_from_their_fragments(scripted_server, deltas):
    found = ask(scripted_server(HEAD, *map(event, deltas), event({}, reason="tool_calls") + DONE))
    assert [(call.id, call.name, json.loads(call.arguments)) for call in found.tool_calls] == [
        ("a", "read_file", {"path": "a"}),
        ("b", "run", {"command": "tests"}),
    ]
    # what a model writes into a call it makes token by token, as it does text
    assert (found.fault, found.text, len(found.trace.stamps_s)) == (None, "", len(deltas))


def test_an_event_split_over_packets_gets_the_stamp_of_its_end(scripted_server):
    whole = event({"content": "late"})
    url = scripted_server(HEAD + whole[:20], whole[20:], event({}, reason="stop") + DONE, delay_s=0.15)
    found = ask(url)
    assert found.text == "late"
    assert found.trace.stamps_s[0] > 0.14  # the pause between the two halves


def test_thousands_of_small_chunks_in_one_packet_arrive_whole(scripted_server):
    """So many pieces at once that the HTTP parser pauses and resumes while they are being read."""
    head = b"HTTP/1.1 200 OK\r\nContent-Type: text/event-stream\r\nTransfer-Encoding: chunked\r\n\r\n"
    events = [event({"content": f"{number} "}) for number in range(5000)] + [event({}, reason="stop") + DONE]
    body = b"".join(b"%x\r\n%s\r\n" % (len(raw), raw) for raw in events) + b"0\r\n\r\n"
    found = ask(scripted_server(head, body))
    assert (found.fault, len(found.trace.stamps_s)) == (None, 5000)
    assert found.text == "".join(f"{number} " for number in range(5000))


def test_without_usage_the_events_are_counted(scripted_server):
    url = scripted_server(HEAD, event({"content": "a"}), event({"content": "b"}), event({}, reason="length"), DONE)
    found = ask(url)
    assert found.cap_hit
    assert read_figures(found.trace).token_count == "events"


def test_a_server_that_does_not_stream_is_read_all_the_same(scripted_server):
    body = json.dumps({"choices": [{"message": {"content": "all at once"}, "finish_reason": "stop"}]}).encode()
    url = scripted_server(b"HTTP/1.1 200 OK\r\nContent-Type: application/json\r\nConnection: close\r\n\r\n" + body)
    assert (ask(url).text, ask(url).fault) == ("all at once", None)


@pytest.mark.parametrize(
    ("pieces", "words"),
    [
        ([HEAD, event({"content": "a"}), event(error={"message": "out of memory"})], "out of memory"),
        ([HEAD, event({"content": "a"})], "without saying why"),
        ([HEAD, b"data: <html>\n\n"], "not a chat completion"),
        ([HEAD, b'data: {"choices": 3}\n\n'], "not a chat completion"),
        ([b"HTTP/1.1 200 OK\r\nContent-Type: text/html\r\nConnection: close\r\n\r\n<p>"], "text/html"),
        (
            [b'HTTP/1.1 500 No\r\nConnection: close\r\n\r\n{"error": {"message": "too \x1b[31mred"}}'],
            "too \\x1b[31mred",
        ),
        ([b"HTTP/1.1 200 OK\r\nContent-Type: text/event-stream\r\nContent-Length: 999\r\n\r\n"], "broke off"),
        ([b""], "broke off"),
    ],
)
def test_a_fault_is_told_in_words_beside_what_had_arrived(scripted_server, pieces, words):
    found = ask(scripted_server(*pieces))
    assert words in found.fault
    assert found.text in {"", "a"}


def test_a_reply_that_takes_too_long_and_a_server_that_is_not_there(scripted_server):
    slow = scripted_server(HEAD, *[event({"content": "a"})] * 50, delay_s=0.1)
    assert "no end of its reply" in ask(slow, within_s=0.3).fault
    assert "broke off" in ask("http://127.0.0.1:9").fault


def launch(tmp_path, command, **options):
    return Launch(
        command=tuple(command),
        fields={"context": "64"},
        ready_paths=("/health", "/v1/models"),
        ready_within_s=options.pop("ready_within_s", 5),
        log=tmp_path / "logs" / "server.log",
        folder=tmp_path,
        **options,
    )


def test_placeholders_are_filled_and_unknown_ones_refused():
    fields = {"port": "81", "weights": "/w/{port}.gguf"}
    filled = fill_command(("run", "--p={port}", "{weights}", '{"a": 1}'), fields)
    assert filled == ("run", "--p=81", "/w/{port}.gguf", '{"a": 1}')
    with pytest.raises(InputError, match="wieghts"):
        fill_command(("run", "{wieghts}"), fields)


def test_a_stopped_server_takes_all_it_started_with_it(tmp_path):
    import psutil

    script = (
        "import subprocess, time; print(subprocess.Popen(['setsid', 'sleep', '60']).pid, flush=True); time.sleep(60)"
    )

    async def run():
        server = start_server(launch(tmp_path, ["{python}", "-c", script]))
        while not (text := (tmp_path / "logs" / "server.log").read_text()).strip():
            await asyncio.sleep(0.02)
        await server.stop()
        return server.pid, int(text)

    for pid in asyncio.run(run()):
        assert not psutil.pid_exists(pid) or psutil.Process(pid).status() == psutil.STATUS_ZOMBIE


@pytest.mark.parametrize(
    ("script", "words"),
    [
        (
            "import sys; print('no card \\x1b[1m found'); sys.exit(7)",
            "status 7 before it was ready: no card \\x1b[1m found",
        ),
        ("import time; print('warming'); time.sleep(60)", "not ready within 1.00 s: warming"),
    ],
)
def test_a_server_that_never_gets_ready_shows_its_last_words(tmp_path, script, words):
    async def run():
        server = start_server(launch(tmp_path, [sys.executable, "-u", "-c", script], ready_within_s=1.0))
        try:
            await server.wait_ready()
        finally:
            await server.stop()

    with pytest.raises(ServerError) as caught:
        asyncio.run(run())
    assert words in str(caught.value)


@pytest.mark.parametrize(
    ("header", "seconds"), [(b"Retry-After: 3\r\n", 3.0), (b"", 1.0), (b"Retry-After: Wed, 01 Jan\r\n", 1.0)]
)
def test_a_server_that_is_too_busy_says_when_to_ask_again(scripted_server, header, seconds):
    head = b"HTTP/1.1 429 Too Many Requests\r\nContent-Type: text/plain\r\n" + header + b"Connection: close\r\n\r\nbusy"
    found = ask(scripted_server(head))
    assert (found.retry_after_s, "status 429" in found.fault) == (seconds, True)
    refused = ask(scripted_server(head.replace(b"429 Too Many Requests", b"400 Bad Request")))
    assert refused.retry_after_s is None and "status 400" in refused.fault
