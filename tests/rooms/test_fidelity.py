"""Fixed texts and what servers say of them: odd answers are named, known distributions come back, none is zero."""

import asyncio
import json
import math
import threading
import tomllib
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer

import pandas as pd
import pytest
from conftest import STANDIN
from exercises import write_exercise

from kettlefield.campaign.fixed_texts import fixed_texts
from kettlefield.campaign.prompts import render_text
from kettlefield.core.errors import InputError
from kettlefield.core.statistics.next_token import pair_up, perplexity
from kettlefield.demo.simulated_scores import Made, simulated_scores
from kettlefield.measure.fidelity import FixedText, score_texts
from kettlefield.measure.procedure import Bench, Budget
from kettlefield.measure.settings import FidelityTable
from kettlefield.plan.tables import PromptingTable
from kettlefield.results.text_fidelity import TOLD, scored_texts
from kettlefield.server.http_client import HttpClient
from kettlefield.server.prompt_scores import (
    Way,
    pack_positions,
    read_next,
    read_reply,
    read_scores,
    score_request,
    unpack_positions,
)
from kettlefield.views.figures.fidelity_charts import divergence_over_bits


def answer(tokens, logprobs=None, tops=None):
    held = logprobs if logprobs is not None else [None] + [-0.5] * (len(tokens) - 1)
    lists = tops if tops is not None else [None] + [{token: -0.5} for token in tokens[1:]]
    return {"choices": [{"logprobs": {"tokens": tokens, "token_logprobs": held, "top_logprobs": lists}}]}


def test_positions_begin_where_the_scored_part_does_whatever_stands_before_or_after():
    text = "ask\nberth = 12"
    plain = read_scores(answer(["ask", "\n", "berth", " =", " 12", "!"]), text, 4, 20)
    marked = read_scores(answer(["<s>", "ask", "\n", "berth", " =", " 12"]), text, 4, 20)
    assert [one.token for one in plain.positions] == ["berth", " =", " 12"]  # what it wrote on is left out
    assert marked.positions == plain.positions and not plain.fault
    assert unpack_positions(json.loads(json.dumps(pack_positions(plain.positions)))) == plain.positions
    long = answer(["ask", "\n", "berth", " =", " 12"], tops=[None] + [{str(n): -1.0 - n for n in range(99)}] * 4)
    assert list(read_scores(long, text, 4, 3).positions[0].top) == ["0", "1", "2"]
    assert score_request(text, 5)["echo"] is True and score_request(text, 5)["logprobs"] == 5


@pytest.mark.parametrize(
    ("found", "said"),
    [
        ({}, "no choices"),
        (["berth"], "no choices"),
        ({"choices": [{"text": "berth"}]}, "returns no log-probabilities"),
        ({"choices": [{"logprobs": {"content": []}}]}, "another shape"),
        (answer(["be", "rth"], logprobs=[None]), "do not match"),
        (answer(["be", "rth"], tops=[]), "lists no likeliest tokens"),
        (answer(["be", "rth"], logprobs=[-1, "low"], tops=[{"b": -1}, {"c": -1}]), "no number"),
        (answer(["be", "rth"], logprobs=[-1, float("nan")], tops=[{"b": -1}, {"c": -1}]), "no number"),
        (answer(["be", "rth"], logprobs=[-1, 3.0], tops=[{"b": -1}, {"c": -1}]), "no number"),
        (answer(["quay"]), "not of the text"),
    ],
)
def test_other_shapes_are_named_and_never_taken_for_figures(found, said):
    scores = read_scores(found, "berth", 1, 20)
    assert said in scores.fault and scores.positions == ()


LISTED = {  # what a server of each level holds likely wherever it is asked
    "full": {"a": 0.5, "b": 0.3, "c": 0.15},
    "low": {"a": 0.4, "b": 0.45, "d": 0.1},
}
# over the tokens that both list; 0.2 and 0.15 of the rest are one lump
KL = 0.5 * math.log(0.5 / 0.4) + 0.3 * math.log(0.3 / 0.45) + 0.2 * math.log(0.2 / 0.15)


class Scripted(BaseHTTPRequestHandler):
    """Answers by the listed distributions, one letter a token, in the ways that the server offers."""

    def log_message(self, *_):
        """Say nothing."""

    def do_POST(self):
        body = json.loads(self.rfile.read(int(self.headers["Content-Length"])))
        top = {token: math.log(share) for token, share in LISTED[body["model"]].items()}
        likeliest = max(top, key=top.get)
        if "messages" in body:
            one = {"token": likeliest, "logprob": top[likeliest]}
            one["top_logprobs"] = [{"token": token, "logprob": value} for token, value in top.items()]
            found = {"content": [one] * 3}
        elif body.get("echo"):
            letters = list(body["prompt"])
            rest = [top["a"]] * (len(letters) - 1)
            found = {"tokens": letters, "token_logprobs": [None, *rest], "top_logprobs": [None, *[top] * len(rest)]}
        else:
            found = {"tokens": [likeliest], "token_logprobs": [top[likeliest]], "top_logprobs": [top]}
        offered = "replies" if "messages" in body else "prompt" if body.get("echo") else "sampled positions"
        known = offered in self.server.offers and "logprobs" in body
        data = json.dumps({"choices": [{"text": "x", "logprobs": found if known else None}]}).encode()
        self.send_response(200)
        self.send_header("Content-Length", str(len(data)))
        self.end_headers()
        self.wfile.write(data)


@pytest.fixture
def offering():
    """A server that offers some of the ways; its url."""
    servers = []

    def start(*offers):
        server = ThreadingHTTPServer(("127.0.0.1", 0), Scripted)
        server.offers = offers
        threading.Thread(target=server.serve_forever, daemon=True).start()
        servers.append(server)
        return f"http://127.0.0.1:{server.server_port}"

    yield start
    for server in servers:
        server.shutdown()
        server.server_close()


def scored(url, model, texts):
    async def run():
        client = HttpClient(url, reply_within_s=5, model=model)
        bench = Bench(
            client=client, sampling={}, frame=lambda text: render_text(text, PromptingTable()), budget=Budget(60),
            is_alive=lambda: True,
        )  # fmt: skip
        ends = [item async for item in score_texts(bench, texts, FidelityTable(positions_each=4), None)]
        await client.close()
        return ends[-1].facts

    return asyncio.run(run())


@pytest.mark.parametrize(
    ("offers", "way", "positions"),
    [
        (("prompt", "sampled positions", "replies"), "prompt", [16, 20]),
        (("sampled positions", "replies"), "sampled positions", [4, 3]),
        (("replies",), "replies", [1, 1]),  # they part at the first token, which both were asked for
    ],
)
def test_known_distributions_come_back_in_each_way_that_a_server_offers(offering, offers, way, positions):
    url = offering(*offers)
    texts = [
        FixedText(id="one", language="python", before="ask\n", scored="tide = berth + 1", asked="Ask."),
        FixedText(id="two", language="c", before="ask\n", scored="wave(berth, quay) ; ", asked="Ask again."),
    ]
    facts = {model: scored(url, model, texts) for model in LISTED}
    assert {one["way"] for one in facts.values()} == {way}
    full, low = (scored_texts(one, "here") for one in facts.values())
    found = pair_up(full, low, are_replies=way == "replies")
    assert found.positions == (sum(positions) if way != "sampled positions" else found.positions) > 0
    assert found.kl_divergence.value == pytest.approx(KL, abs=1e-6) and found.top1_agreement.value == 0
    assert found.kl_p99.value == pytest.approx(KL, abs=1e-6) and found.texts == 2
    told = perplexity(low)
    assert told.value == pytest.approx(1 / 0.4, abs=1e-6) if way == "prompt" else told is None
    same = pair_up(full, full, are_replies=way == "replies")
    assert (same.kl_divergence.value, same.top1_agreement.value) == (0, 1)


def test_a_server_that_offers_none_says_to_each_way_why(offering):
    facts = scored(offering(), "full", [FixedText(id="one", language="c", before="a", scored="b c", asked="Ask.")])
    assert facts["way"] == "none" and facts["not_measured"] == (
        "the server tells no log-probabilities: prompt: it returns no log-probabilities; "
        "sampled positions: it returns no log-probabilities; replies: it returns no log-probabilities"
    )


@pytest.mark.parametrize(
    ("read", "found", "said"),
    [
        (read_next, {"tokens": ["a"], "top_logprobs": []}, "lists no likeliest tokens"),
        (read_next, {"tokens": [], "top_logprobs": []}, "no token after the text"),
        (read_next, {"tokens": ["a"], "top_logprobs": [{"a": "high"}]}, "no number"),
        (read_reply, {"tokens": ["a"]}, "they have no content"),
        (read_reply, {"content": [{"token": 3, "logprob": -1, "top_logprobs": []}]}, "not listed as one"),
        (read_reply, {"content": [{"token": "a", "logprob": -1, "top_logprobs": ["a"]}]}, "no number"),
        (read_reply, {"content": []}, "gives no reply"),
    ],
)
def test_other_shapes_of_one_token_and_of_replies_are_named_too(read, found, said):
    assert said in read({"choices": [{"logprobs": found}]}, 5).fault


def test_texts_are_drawn_evenly_over_languages_and_own_files_come_along(tmp_path):
    spec = {"check": [{"kind": "program", "name": "c", "cases": "cases.json"}]}
    exercises = [
        write_exercise(
            tmp_path / name,
            spec | {"language": language, "file": file},
            {f"answer/{file}": f"{name} = 1\n", "cases.json": [{"stdin": "", "stdout": ""}]},
        )
        for name, language, file in (("a", "python", "a.py"), ("b", "python", "a.py"), ("c", "javascript", "a.js"))
    ]
    (tmp_path / "src").mkdir()
    (tmp_path / "src" / "tide.py").write_text("import math\nprint(math.pi)\n")
    table = FidelityTable(texts=2, text_files=("src/*.py",))
    texts = fixed_texts(table, exercises, tmp_path)
    assert sorted(one.language for one in texts) == ["javascript", "python", "python"]
    assert texts == fixed_texts(table, exercises, tmp_path)
    own = texts[-1]
    assert (own.id, own.before, own.scored) == ("file:src/tide.py", "import math\n", "print(math.pi)\n")
    (tmp_path / "src" / "bad.py").write_bytes(b"\xff\x00")
    (tmp_path / "src" / "huge.txt").write_bytes(b"x" * (2**20 + 1))
    for pattern, said in (
        ("src/bad.py", "not text in UTF-8"),
        ("src/huge.txt", "at most 1,048,576"),
        ("none/*", "matches no file"),
    ):
        with pytest.raises(InputError, match=said):
            fixed_texts(FidelityTable(text_files=(pattern,)), exercises, tmp_path)


def test_simulated_distributions_are_sound_and_move_with_bits():
    tokens = ["let", " ", "berth", " ", "=", " ", "12"]
    full, low = (
        simulated_scores(tokens, Made(name="m", ability=2, frailty=1, bits=bits), top=5) for bits in (16.0, 2.7)
    )
    assert full[0].logprob is None and full != low
    for one in full[1:] + low[1:]:
        assert one.logprob < 0 and len(one.top) == 5 and sum(2.718281828**value for value in one.top.values()) < 1


def test_the_chart_names_who_lies_nearest_and_who_cannot_be_told_apart():
    frame = pd.DataFrame(
        {
            "candidate": ["m@f16", "m@q8_0", "m@q6_k", "m@q2_k"],
            "model": "m",
            "level": ["f16", "q8_0", "q6_k", "q2_k"],
            "bits": [16.0, 8.5, 6.6, 2.7],
            "kl": [None, 1e-4, 1.5e-4, 0.2],
            "kl_low": [None, -1e-5, 1e-4, 0.1],
            "kl_high": [None, 2e-4, 2e-4, 0.3],
            "pass_rate": [0.8, 0.8, 0.8, 0.6],
            "low": [0.7, 0.7, 0.7, 0.5],
            "high": [0.9, 0.9, 0.9, 0.7],
            "texts": [24.0] * 4,
        }
    )
    chart = divergence_over_bits(frame)
    assert chart.finding == (
        "m@q8_0 diverges least from its reference level, by 0.0001 nats, m@q2_k most, by 0.2. "
        "Not told apart: m@q8_0 and m@q6_k."
    )
    assert "m@q2_k, 2.70 bits a weight: 0.2 (0.1 to 0.3) nats" in chart.alt and "f16" not in chart.alt
    assert divergence_over_bits(frame[frame["level"] == "f16"]) is None


PLAN = """
[[criterion]]
measure = "kl_divergence"
at_most = {most}
[[criterion]]
measure = "top1_agreement"
at_least = 0.5
[[criterion]]
measure = "perplexity_per_byte"
at_most = 50
"""


def test_a_campaign_scores_its_texts_and_criteria_are_met_by_them(make_plan, run_main):
    plan = make_plan(
        candidates=(("f16", "reference = true"), ("q2_k", "")),
        tables={"fidelity": "texts = 6"},
        criteria=PLAN.format(most=0.001),
    )
    done = run_main("qualify", plan, "--part", "speed")
    assert done.code == 0, done.err
    found = run_main("compare", plan.parent / "record.db", "--part", "fidelity", "--json")
    full, low = json.loads(found.out)["candidates"]
    assert full["texts"] == low["texts"] > 0 and full["kl_divergence"] is None and low["reference"] == full["candidate"]
    assert low["kl_divergence"]["value"] > 0.001 and low["top1_agreement"]["value"] < 1
    assert all(one["perplexity"]["value"] > 1 for one in low["languages"])
    assert {one["language"] for one in low["languages"]} and low["kl_p99"]["value"] > 0 and low["way"] == "prompt"
    verdicts = json.loads(run_main("decide", plan.parent / "record.db", "--json").out)["verdicts"]
    assert [[one["status"] for one in verdict["criteria"]] for verdict in verdicts] == [
        ["met", "met", "met"],
        ["not met", "met", "met"],
    ]
    assert "SIMULATED" in run_main("compare", plan.parent / "record.db", "--part", "fidelity").out
    again = run_main("qualify", plan, "--part", "speed")
    assert "scoring" not in again.err
    assert tomllib.loads(plan.read_text())["fidelity"] == {"texts": 6}


@pytest.mark.parametrize(("offers", "way"), [("next", "sampled positions"), ("replies", "replies")])
def test_a_campaign_on_a_server_that_offers_less_says_so_and_compares_what_it_can(make_plan, run_main, offers, way):
    plan = make_plan(
        candidates=(("f16", "reference = true"), ("q2_k", "")),
        tables={"fidelity": "texts = 6\npositions_each = 4"},
        command=[*STANDIN, "--log-probabilities", offers],
        criteria=PLAN.format(most=0.001),
    )
    done = run_main("qualify", plan, "--part", "speed")
    assert done.code == 0, done.err
    record = plan.parent / "record.db"
    full, low = json.loads(run_main("compare", record, "--part", "fidelity", "--json").out)["candidates"]
    assert (full["way"], low["way"]) == (way, way) and low["reference"] == full["candidate"]
    assert low["kl_divergence"]["value"] > 0.001 and 0 < low["top1_agreement"]["value"] <= 1
    assert low["perplexity_per_byte"] is None and not any(one["perplexity"] for one in low["languages"])
    shown = " ".join(run_main("compare", record, "--part", "fidelity").out.split())
    assert "perplexity is not measured" in shown
    verdicts = json.loads(run_main("decide", record, "--json").out)["verdicts"]
    assert [one["status"] for one in verdicts[1]["criteria"]][::2] == ["not met", "undecided"]
    assert TOLD[Way(way)] in verdicts[1]["criteria"][2]["reason"]
    agreement = low["top1_agreement"]
    assert 0 <= agreement["low"] < agreement["high"] <= 1


def test_a_server_without_log_probabilities_is_not_measured_and_that_is_no_fault(make_plan, run_main, monkeypatch):
    from kettlefield.server import http_client

    monkeypatch.setattr(http_client, "read_scores", lambda *_: read_scores({"choices": [{"text": "x"}]}, "x", 0, 5))
    plan = make_plan(tables={"fidelity": "texts = 6"}, criteria=PLAN.format(most=1))
    done = run_main("qualify", plan, "--part", "speed")
    assert done.code == 0, done.err
    shown = run_main("compare", plan.parent / "record.db", "--part", "fidelity").out
    assert "not measured: the server tells no log-probabilities: prompt: it returns no log-probabilities" in " ".join(
        shown.split()
    )
    verdict = json.loads(run_main("decide", plan.parent / "record.db", "--json").out)["verdicts"][0]
    assert {one["status"] for one in verdict["criteria"]} == {"undecided"}


def test_text_files_that_cannot_be_used_are_told_before_anything_starts(make_plan, run_main):
    plan = make_plan(tables={"fidelity": 'text_files = ["nowhere/*.py"]'})
    done = run_main("qualify", plan)
    assert done.code == 2 and 'text_files "nowhere/*.py" matches no file' in done.err
    assert not (plan.parent / "record.db").exists()
