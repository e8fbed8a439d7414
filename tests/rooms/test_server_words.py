"""What servers say of themselves: which counters and gauges are understood, and a disagreement is told."""

import json

import pytest

from kettlefield.record.store import Record
from kettlefield.results.frames import notes
from kettlefield.results.server_words import server_words
from kettlefield.server.metrics_text import means, read_metrics

PAGE = """# a ferry's model server
# TYPE prompt_tokens_total counter
prompt_tokens_total{model="a"} 120
prompt_tokens_total{model="b"} 30
prompt_tokens_created{model="a"} 1.7e9
# TYPE cache_used_ratio gauge
cache_used_ratio 0.25
# TYPE odd gauge
odd NaN
# TYPE reply_seconds histogram
reply_seconds_bucket{le="1"} 4
reply_seconds_bucket{le="+Inf"} 4
reply_seconds_sum 2
reply_seconds_count 4
"""


def test_counters_and_gauges_are_summed_over_labels_and_the_rest_is_left_out():
    seen = read_metrics(PAGE)
    assert dict(seen.values) == {"prompt_tokens_total": 150.0, "cache_used_ratio": 0.25}
    assert dict(seen.kinds) == {"prompt_tokens_total": "counter", "cache_used_ratio": "gauge"}
    assert not read_metrics("").values
    with pytest.raises(ValueError, match=r"."):
        read_metrics("<html><body>not here</body></html>")
    many = "\n".join(f"# TYPE gauge_{n} gauge\ngauge_{n} {n}" for n in range(400))
    assert len(read_metrics(many).values) == 200


@pytest.mark.parametrize(
    ("name", "kind", "what"),
    [
        ("srv:prompt_tokens_total", "counter", "prompt_tokens"),
        ("input_token_count", "counter", "prompt_tokens"),
        ("generation_tokens_total", "counter", "completion_tokens"),
        ("tokens_predicted_total", "counter", "completion_tokens"),
        ("prompt_cache_tokens_total", "counter", None),
        ("prompt_tokens_seconds", "gauge", None),
        ("requests_total", "counter", None),
        ("num_requests_waiting", "gauge", "waiting"),
        ("requests_deferred", "gauge", "waiting"),
        ("requests_processing", "gauge", "running"),
        ("kv_cache_usage_ratio", "gauge", "cache_use"),
        ("cache_size_bytes", "gauge", None),
    ],
)
def test_what_a_name_tells(name, kind, what):
    assert means(name, kind) == what


TABLES = {
    "speed": "requests = 2\nprompt_tokens = [64]\nreply_tokens = 16\nwarm_up = 1\n[speed.closed_loop]\nconcurrency = [2]\nrequests = 6"
}  # fmt: skip


def test_a_servers_counters_agree_with_ours_and_a_wrong_one_is_told(make_plan, run_main, monkeypatch):
    plan = make_plan(tables=TABLES)
    plan.write_text(plan.read_text().replace("context = 2048", 'context = 2048\nmetrics_path = "/metrics"'))
    done = run_main("qualify", plan)
    assert done.code == 0, done.err
    path = plan.parent / "record.db"
    said = server_words(Record.open(path))
    assert {one.what: one.agrees for one in said.counted} == {"prompt_tokens": True, "completion_tokens": True}
    assert all(one.ours > 0 for one in said.counted)
    assert set(said.load["phase"]) <= {"closed_loop"} and {"running", "waiting", "cache_use"} <= set(said.load.columns)
    shown = json.loads(run_main("compare", path, "--part", "speed", "--json").out)
    assert [one["agrees"] for one in shown["server_counters"]] == [True, True]
    from kettlefield.results import server_words as module

    monkeypatch.setattr(module, "_grown", lambda values: 1.5 * max(values))
    assert "! kelpling-400m@q4_k_m: the server counts" in run_main("compare", path, "--part", "speed").out


@pytest.mark.parametrize(
    ("path", "code", "said"),
    [("/nowhere", 0, "what /nowhere says answers with status 404"), ("metrics", 2, 'metrics_path is "metrics"')],
)
def test_a_path_that_tells_nothing_is_noted_and_one_that_is_none_refused(make_plan, run_main, path, code, said):
    plan = make_plan(tables={"speed": "requests = 0"})
    plan.write_text(plan.read_text().replace("context = 2048", f'context = 2048\nmetrics_path = "{path}"'))
    done = run_main("qualify", plan, "--part", "answers")
    assert done.code == code, done.err
    shown = [done.err] if code else notes(Record.open(plan.parent / "record.db"))
    assert any(said in one for one in shown)
