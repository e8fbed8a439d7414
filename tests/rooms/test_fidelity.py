"""Fixed texts and what servers say of them: odd answers are named, known distributions come back, none is zero."""

import json
import tomllib

import pandas as pd
import pytest
from exercises import write_exercise

from kettlefield.campaign.fixed_texts import fixed_texts
from kettlefield.core.errors import InputError
from kettlefield.demo.simulated_scores import simulated_scores
from kettlefield.measure.settings import FidelityTable
from kettlefield.server.prompt_scores import pack_positions, read_scores, score_request, unpack_positions
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
    full, low = (simulated_scores(tokens, model="m", ability=2, frailty=1, bits=bits, top=5) for bits in (16.0, 2.7))
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
    assert {one["language"] for one in low["languages"]} and low["kl_p99"] > 0
    verdicts = json.loads(run_main("decide", plan.parent / "record.db", "--json").out)["verdicts"]
    assert [[one["status"] for one in verdict["criteria"]] for verdict in verdicts] == [
        ["met", "met", "met"],
        ["not met", "met", "met"],
    ]
    assert "SIMULATED" in run_main("compare", plan.parent / "record.db", "--part", "fidelity").out
    again = run_main("qualify", plan, "--part", "speed")
    assert "scoring" not in again.err
    assert tomllib.loads(plan.read_text())["fidelity"] == {"texts": 6}


def test_a_server_without_log_probabilities_is_not_measured_and_that_is_no_fault(make_plan, run_main, monkeypatch):
    from kettlefield.server import http_client

    monkeypatch.setattr(http_client, "read_scores", lambda *_: read_scores({"choices": [{"text": "x"}]}, "x", 0, 5))
    plan = make_plan(tables={"fidelity": "texts = 6"}, criteria=PLAN.format(most=1))
    done = run_main("qualify", plan, "--part", "speed")
    assert done.code == 0, done.err
    shown = run_main("compare", plan.parent / "record.db", "--part", "fidelity").out
    assert "not measured: the server returns no log-probabilities of a prompt" in shown
    verdict = json.loads(run_main("decide", plan.parent / "record.db", "--json").out)["verdicts"][0]
    assert {one["status"] for one in verdict["criteria"]} == {"undecided"}


def test_text_files_that_cannot_be_used_are_told_before_anything_starts(make_plan, run_main):
    plan = make_plan(tables={"fidelity": 'text_files = ["nowhere/*.py"]'})
    done = run_main("qualify", plan)
    assert done.code == 2 and 'text_files "nowhere/*.py" matches no file' in done.err
    assert not (plan.parent / "record.db").exists()
