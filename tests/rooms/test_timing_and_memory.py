"""Timing, memory and energy read back from records that were written by hand; and how they are shown."""

import pytest
from records import PASSED, WRONG, Writer

from kettlefield.campaign.measuring import ANSWERS, steps_left
from kettlefield.core.statistics.estimate import Estimate, p_words
from kettlefield.measure.procedure import MEMORY, SPEED
from kettlefield.plan.plan import read_plan
from kettlefield.record.entries import SessionEntry
from kettlefield.results.capacity import Floor
from kettlefield.results.comparison import compare
from kettlefield.results.memory_use import memories
from kettlefield.results.speed import timings
from kettlefield.views.answers_view import groups_view
from kettlefield.views.memory_view import memory_view
from kettlefield.views.speed_view import capacity_table, closed_loop_table, speed_view
from kettlefield.views.terminal import show

KIB = 1024


@pytest.fixture
def bench(tmp_path):
    return Writer(tmp_path / "record.db")


GRID = {"prompt_tokens": 64, "reply_tokens": 8}


def test_a_disturbed_sample_is_left_out_and_too_few_others_make_no_figure(bench):
    ids = bench.candidate("m@f16")
    for number in range(6):
        bench.timed(ids, "latency", GRID, first=0.1, disturbed="heat" if number < 2 else None)
    bench.timed(ids, "latency", GRID, first=9.0, disturbed="heat")
    other = bench.candidate("m@q8_0")
    for number in range(5):
        bench.timed(other, "latency", GRID, first=0.2, disturbed="heat" if number else None)
    clean, noisy = timings(bench.record)
    assert (clean.latency[0].n, clean.latency[0].disturbed, clean.latency[0].ttft_p95_s) == (7, 3, 0.1)
    assert (noisy.latency[0].n, noisy.latency[0].disturbed, noisy.latency[0].ttft_s.n) == (5, 4, 1)
    assert (clean.latency[0].doubt, noisy.latency[0].doubt) == ("", "disturbed: 4 of 5 samples (heat)")
    assert clean.itl is not None and noisy.itl is None
    rows = compare(bench.record).rows
    assert [(row.disturbed, len(row.speed["ttft_s"])) for row in rows] == [(3, 4), (4, 1)]


def test_levels_are_compared_at_the_points_that_both_were_timed_at(bench):
    far = {"prompt_tokens": 4096, "reply_tokens": 8}
    reference, level = bench.candidate("m@f16"), bench.candidate("m@q4_k_m")
    for _ in range(6):
        bench.timed(reference, "latency", GRID, first=0.2, rate=50)
        bench.timed(level, "latency", GRID, first=0.1, rate=100)
        bench.timed(level, "latency", far, first=4.0, rate=10)
    base, found = timings(bench.record)
    assert base.decode_ratio is None and base.drift is None
    assert found.ttft_ratio.value == pytest.approx(0.5) and found.decode_ratio.value == pytest.approx(2.0)
    assert [cell.label for cell in found.latency] == ["64 tokens in, 8 out", "4,096 tokens in, 8 out"]
    assert found.itl.p50_s == pytest.approx(0.055, abs=0.05) and found.itl.max_s == pytest.approx(0.1)


def test_points_that_differ_are_no_drift_and_a_server_that_slows_down_is(bench):
    far = {"prompt_tokens": 4096, "reply_tokens": 8}
    steady, slowing = bench.candidate("m@f16"), bench.candidate("m@q8_0")
    for point, rate in ((GRID, 100), (far, 30)):
        for number in range(9):
            bench.timed(steady, "latency", point, rate=rate + number % 3)
    for number in range(18):
        bench.timed(slowing, "latency", GRID, rate=100 - 2 * number)
    first, second = timings(bench.record)
    assert first.drift is None and second.drift == pytest.approx(0.74, abs=0.05)


def test_depth_clients_and_capacity_by_hand(bench):
    speed = {"depth": {"floor": 50.0}, "open_loop": {"requests_per_engineer_hour": 10}}
    ids = bench.candidate("m@f16", speed=speed)
    for depth, rate in ((100, 90), (1100, 70), (2100, 40)):
        for extra in (0, 3, 5):
            bench.timed(ids, "depth", {"depth_tokens": depth}, rate=rate, prompt=depth + extra)
    bench.ended(ids, "past-window", behaviour="an error: no")
    for count in (1, 4):
        for _ in range(count):
            bench.timed(ids, "closed_loop", {"concurrency": count}, first=0.1 * count)
    bench.ended(
        ids,
        "closed_loop",
        counts=[{"concurrency": 1, "rate_tps": 90.0}, {"concurrency": 4, "rate_tps": 95.0}],
        saturation_concurrency=1,
    )
    bench.timed(ids, "open_loop", {"rate_rps": 2.0}, first=0.1, scheduled_lag_s=0.4)
    bench.ended(ids, "open_loop", "budget", capacity_rps=2.0, fails_at_rps=None, tries=[{"rate_rps": 2.0}])
    (found,) = timings(bench.record)
    assert found.depth.slope_tps.value == pytest.approx(-25, abs=6) and found.depth.past_window == "an error: no"
    # from 70 at 1,103 tokens to 40 at 2,103 along a straight line: 50 is two thirds of the way
    assert found.depth.floor_depth_tokens == pytest.approx(1103 + 1000 * 20 / 30, abs=3)
    assert (found.closed_loop.rates_tps, found.closed_loop.saturation_concurrency) == ((90.0, 95.0), 1)
    assert [cell.ttft_s.value for cell in found.closed_loop.cells] == pytest.approx([0.1, 0.4])
    capacity = found.capacity
    assert (capacity.engineers, capacity.fails_rps, capacity.why_ended) == (720, None, "budget")
    # what something else had its part in is no rate of all together, and no saturation
    bench.timed(ids, "closed_loop", {"concurrency": 4}, first=0.4, disturbed="a build")
    bench.timed(ids, "open_loop", {"rate_rps": 4.0}, disturbed="a build")
    tries = [{"rate_rps": 4.0, "held": False, "disturbed": "a build"}, {"rate_rps": 2.0, "held": True}]
    bench.ended(ids, "open_loop", capacity_rps=2.0, fails_at_rps=4.0, tries=tries)
    (found,) = timings(bench.record)
    assert (found.closed_loop.rates_tps, found.closed_loop.saturation_concurrency) == ((90.0, None), None)
    assert closed_loop_table([found], Floor(None)).rows[1][-2:] == ("disturbed", "")
    assert "did not hold 4 requests/s while the host was busy (a build)" in capacity_table([found]).note


def test_loads_cold_and_warm_and_what_the_server_counts(bench):
    ids = bench.candidate("m@f16", load_kind="cold", first_answer_s=2.0)
    warm = SessionEntry(
        candidate_id=ids[0], command=("run",), url="u", description="", load_s=0.5, baseline_bytes=7, load_kind="warm"
    )
    bench.record.begin_session(warm)
    bench.timed(ids, "latency", GRID, counts_nothing=True)
    bench.timed(ids, "latency", GRID, counted=4)
    (found,) = timings(bench.record)
    assert [(load.kind, load.load_s, load.bytes_s) for load in found.loads] == [
        ("cold", 1.5, pytest.approx(500 / 1.5)),  # two thirds of it, beyond the warm one, were reading
        ("warm", 0.5, None),
    ]
    assert (found.without_usage, found.odd_usage, found.short_replies) == (1, 1, 1)


def test_memory_slopes_leaks_and_energy_by_hand(bench):
    ids = bench.candidate("m@f16")
    for depth in (100, 1000, 2000):
        for extra in (0, 2):
            tokens = depth + extra
            bench.timed(ids, "depth", {"depth_tokens": depth}, prompt=tokens, memory=10**6 + 2 * KIB * (depth + 1))
    for number in range(1, 9):
        bench.timed(ids, "leak", {"number": number}, memory=10**6 + 300 * number)
    bench.phase(ids, "load", 1000, joules=1.0)
    for count in (1, 2, 4):
        bench.phase(ids, "closed_loop", 2000 + 50 * count, concurrency=count)
    bench.phase(ids, "answers", 3000, joules=12.0)
    bench.trial(ids, 0, PASSED, tokens=20)
    bench.trial(ids, 1, WRONG, tokens=40)
    (found,) = memories(bench.record)
    assert found.token_slope_bytes.value == pytest.approx(2 * KIB) and found.stream_slope_bytes.value == pytest.approx(
        50
    )
    assert found.leaks and found.leak_bytes.value == pytest.approx(300)
    assert [phase.phase for phase in found.phases][-1] == "answers" and found.phases[0].peak_bytes == 1000
    assert (found.energy_from, found.joules_per_token, found.joules_per_solved) == ("a meter", 0.2, 12.0)
    silent = bench.candidate("m@q8_0")
    bench.phase(silent, "load", 900)
    quiet = memories(bench.record)[1]
    assert (quiet.energy_from, quiet.leaks, quiet.token_slope_bytes) == (None, False, None)


def test_what_a_plan_asks_for_is_left_until_it_ended_well(make_plan):
    speed = "requests = 3\nprompt_cache = 2\n[speed.depth]\ntokens = [64]\n[speed.closed_loop]\nconcurrency = [1]\n"
    (candidate,) = read_plan(make_plan(tables={"speed": speed, "memory": "leak_requests = 3"})).candidates
    every = frozenset({SPEED, MEMORY, ANSWERS})
    assert steps_left(candidate, {}, every) == (
        "latency",
        "depth",
        "prompt_cache",
        "closed_loop",
        "leak",
        "past-window",
    )
    assert steps_left(candidate, {}, frozenset({MEMORY})) == ("depth", "closed_loop", "leak")
    assert steps_left(candidate, {}, frozenset({ANSWERS})) == ()
    ended = {"latency": "precise", "depth": "budget", "prompt_cache": "broke off (reset)", "closed_loop": "done"}
    assert steps_left(candidate, ended, frozenset({SPEED})) == ("prompt_cache", "past-window")


def test_nothing_below_the_stopwatchs_error_is_printed_as_a_figure():
    floor = Floor(0.0004)
    assert floor.show(0.0003) == "< 0.400 ms" and floor.show(0.0005) == "0.500 ms" and floor.show(None) == "-"
    assert floor.show(Estimate(value=0.0003, low=0.0001, high=0.9, n=9)) == "< 0.400 ms"
    assert Floor(None).show(0.0003) == "0.300 ms" and "not calibrated" in Floor(None).words()
    assert (p_words(0.0), p_words(0.0312)) == ("< 0.001", "0.031")


def test_a_wall_clock_that_is_set_is_noted_and_moves_no_duration(bench, make_plan, monkeypatch):
    from kettlefield.campaign import serving
    from kettlefield.results.frames import notes

    plan = read_plan(make_plan())
    ids = bench.candidate("m@f16")
    place = serving.Place(
        plan=plan, candidate=plan.candidates[0], candidate_id=ids[0], record=bench.record, accelerator=None
    )
    offset = serving.time.time() - serving.time.perf_counter()
    serving._note_clock_step(place, offset)
    assert notes(bench.record) == []
    serving._note_clock_step(place, offset - 3600)
    assert "set by +3600 s" in notes(bench.record)[0]


def lines_of(text, first_words):
    """The rows of the table whose head begins with these words, up to the next empty line."""
    lines = text.splitlines()
    head = next(n for n, line in enumerate(lines) if line.strip().startswith("candidate") and first_words in line)
    rows = lines[head + 2 :]
    return [line.split() for line in rows[: next((n for n, line in enumerate(rows) if not line.strip()), len(rows))]]


def test_the_speed_view_names_each_candidate_once_and_says_what_went_wrong(bench, capsys):
    speed = {"depth": {"floor": 95.0}, "open_loop": {"requests_per_engineer_hour": 10}}
    for name, rate in (("m@f16", 100), ("m@q8_0", 200)):
        ids = bench.candidate(name, speed=speed)
        for _ in range(6):
            bench.timed(ids, "latency", GRID, rate=rate)
        for depth in (100, 200):
            bench.timed(ids, "depth", {"depth_tokens": depth}, rate=rate - depth / 10, prompt=depth)
        for purpose in ("uncached", "cached"):
            bench.timed(ids, purpose, {"prompt_tokens": 1024}, first=0.5 if purpose == "uncached" else 0.05)
        bench.timed(ids, "system", {"system_tokens": 900, "first": True})
    bench.timed(ids, "latency", GRID, counts_nothing=True)
    bench.ended(ids, "prompt_cache", "broke off (reset)")
    bench.ended(ids, "open_loop", capacity_rps=4.0, fails_at_rps=None, tries=[{}, {}])
    show(speed_view(bench.record), as_json=False)
    out = capsys.readouterr().out
    assert [row[0] for row in lines_of(out, "prompt and reply")] == ["m@f16", "m@q8_0"]
    depth = lines_of(out, "context depth")
    assert [row[0] for row in depth] == ["m@f16", "200", "m@q8_0", "200"]
    assert "m@f16: decodes below 95 tokens/s from about 100 tokens" in out
    assert "m@q8_0: decodes below 95 tokens/s at no depth that was tried" in out
    assert lines_of(out, "holds at")[0][:6] == ["m@q8_0", "4.00", "-", "2", "at", "least"] and "1,440" in out
    assert "! m@q8_0: prompt_cache ended early: broke off (reset)" in out
    assert (
        "! m@q8_0: the server counted no tokens in 1 of the requests" in out and "long system prompt, the first" in out
    )
    assert "not calibrated" in out


def test_the_memory_view_tells_a_leak_and_a_group_of_few_is_marked(bench, capsys):
    ids = bench.candidate("m@f16")
    for number in range(1, 9):
        bench.timed(ids, "leak", {"number": number}, memory=10**6 + 2 * KIB * number)
    bench.phase(ids, "load", 4 * KIB)
    bench.trial(ids, 0, PASSED)
    show(memory_view(bench.record), as_json=False)
    out = capsys.readouterr().out
    assert (
        "each request: IT LEAKS" in out and "+2.00 KiB (+2.00 KiB to +2.00 KiB)" in out and "not available here" in out
    )
    assert lines_of(out, "phase")[0][:4] == ["m@f16", "load", "-", "4.00"]
    show(groups_view(bench.record, "kind"), as_json=False)
    assert "1 of 1 ?" in capsys.readouterr().out
