"""The instruments against things whose measure is known: a process that takes memory, a client that counts."""

import asyncio
import itertools
import subprocess
import sys
import time

import pytest

from kettlefield.core.timing.pacing import arrival_times
from kettlefield.core.timing.timeline import Trace
from kettlefield.measure.closed_loop import time_closed_loop
from kettlefield.measure.depth import time_depths, try_past_window
from kettlefield.measure.latency import Grid, time_latency, warm_up
from kettlefield.measure.open_loop import Limits, Search, seek_capacity
from kettlefield.measure.procedure import Bench, Budget, Ended, berth_log, point_name
from kettlefield.measure.sampler import Sampler
from kettlefield.rig.host import cached_bytes, drop_pages
from kettlefield.rig.processes import process_tree, proportional_bytes, resident_bytes
from kettlefield.server.exchange import Ask, Exchange

MIB = 2**20
# takes 60 MiB, starts a child that takes 40 more, says so, waits
HUNGRY = (
    "import subprocess, sys, time\na = b'x' * (60 * 2**20)\n"
    "subprocess.Popen([sys.executable, '-c', \"import time; a = b'x' * (40 * 2**20); print('in', flush=True); time.sleep(30)\"])\n"
    "time.sleep(30)"
)


class Card:
    """An accelerator whose use is set by the test."""

    name, memory_bytes, bandwidth_bytes_s, simulated = "test", 2**30, None, True
    now, joules, limit = 0, 0.0, None

    def used_by(self, pids):
        assert len(pids) == 2
        return self.now

    def used(self):
        return self.now

    def energy_j(self):
        return self.joules

    def limited(self):
        return self.limit


@pytest.fixture
def hungry():
    process = subprocess.Popen([sys.executable, "-c", HUNGRY], stdout=subprocess.PIPE)
    assert process.stdout.readline() == b"in\n"
    yield process
    for pid in reversed(process_tree(process.pid)):
        subprocess.run(["kill", "-9", str(pid)], check=False)
    process.wait()
    process.stdout.close()


def test_memory_and_energy_of_the_whole_tree_by_phase(hungry):
    assert len(process_tree(hungry.pid)) == 2
    card = Card()
    card.now = 7 * MIB
    sampler = Sampler(hungry.pid, card, 0.02)
    time.sleep(0.2)
    card.joules = 30.0
    first = sampler.finish_phase("load")
    card.now, card.joules = 9 * MIB, 42.0
    assert sampler.latest_bytes() > 100 * MIB + 9 * MIB
    second = sampler.finish_phase("answers")
    sampler.stop()
    # 100 MiB were taken; two interpreters and their libraries come on top
    assert 100 * MIB < first.host_peak_bytes < 160 * MIB
    assert 0 < first.mapped_peak_bytes < first.host_peak_bytes - 100 * MIB  # the interpreters' own files
    assert (first.accelerator_peak_bytes, second.accelerator_peak_bytes) == (7 * MIB, 9 * MIB)
    assert first.peak_bytes == first.host_peak_bytes + 7 * MIB
    assert second.end_bytes == second.samples[-1, 1] + 9 * MIB
    assert (first.energy_j, second.energy_j, second.energy_from) == (30.0, 12.0, "test")
    assert first.samples.shape[1] == 4 and len(first.samples) >= 2
    assert all(later >= earlier for earlier, later in itertools.pairwise(first.samples[:, 0]))
    assert sampler.cpu_s > 0


def test_a_sample_taken_while_the_card_was_hot_is_told(hungry):
    card = Card()
    card.limit = "test: heat"
    sampler = Sampler(hungry.pid, card, 0.02)
    began = time.perf_counter()
    while sampler.disturbed(began, time.perf_counter()) is None and time.perf_counter() < began + 20:
        time.sleep(0.05)
    assert sampler.disturbed(began, time.perf_counter()) == "test: heat"
    assert sampler.disturbed(began - 60, began - 59) is None
    sampler.stop()


def test_work_of_others_disturbs_and_that_of_the_watched_tree_does_not(hungry):
    spin = [sys.executable, "-c", "while True: pass"]
    sampler = Sampler(hungry.pid, None, 0.02)
    began = time.perf_counter()
    other = subprocess.Popen(spin)
    while sampler.disturbed(began, time.perf_counter()) is None and time.perf_counter() < began + 30:
        time.sleep(0.05)
    other.kill()
    other.wait()
    said = sampler.disturbed(began, time.perf_counter())
    sampler.stop()
    assert said is not None and "other processes" in said


def test_shared_pages_count_once(hungry):
    parent, child = process_tree(hungry.pid)
    assert proportional_bytes(parent) + proportional_bytes(child) < resident_bytes(parent) + resident_bytes(child)
    assert (process_tree(2**22 - 1), resident_bytes(2**22 - 1), proportional_bytes(2**22 - 1)) == ([], 0, 0)


def test_a_process_that_is_gone_leaves_no_samples():
    done = subprocess.Popen([sys.executable, "-c", ""])
    done.wait()
    sampler = Sampler(done.pid, None, 0.01)
    assert sampler.finish_phase("load") is None and sampler.latest_bytes() is None
    sampler.stop()


def test_pages_are_dropped_from_the_cache(tmp_path):
    path = tmp_path / "weights"
    path.write_bytes(b"w" * (4 * MIB))
    assert cached_bytes([path]) == 4 * MIB
    drop_pages([path, tmp_path / "nowhere"])
    assert cached_bytes([path]) == 0


class Client:
    """Answers after ``delay_s`` and remembers what it was asked; fails from a given request on."""

    def __init__(self, *, fails_at=None, first_s=(), delay_s=0.0, counts=lambda text: len(text) // 4):
        self.asked, self.fails_at, self.delay_s, self.counts = [], fails_at, delay_s, counts
        self.firsts = iter(first_s)
        self.under_way = self.most = 0

    async def ask(self, ask):
        self.asked.append(ask)
        fault = "broke off" if self.fails_at is not None and len(self.asked) >= self.fails_at else None
        self.under_way += 1
        self.most = max(self.most, self.under_way)
        sent_s, concurrency = time.perf_counter(), self.under_way
        await asyncio.sleep(self.delay_s * concurrency)
        self.under_way -= 1
        first = next(self.firsts, 0.01) + self.delay_s * concurrency
        tokens = self.counts("".join(m["content"] for m in ask.messages))
        trace = Trace(
            stamps_s=(first, first + 0.01, first + 0.02), thinking=(False,) * 3, finished_s=first + 0.02,
            prompt_tokens=tokens, completion_tokens=3,
        )  # fmt: skip
        return Exchange(
            ask=ask, asked_at=0, sent_s=sent_s, concurrency=concurrency, text="", thinking="", trace=trace,
            finish_reason="stop", fault=fault,
        )  # fmt: skip

    async def close(self):
        """Nothing to let go of."""


ASKS = [
    Ask(messages=({"role": "system", "content": "s"}, {"role": "user", "content": f"berth {n}"}), sampling={})
    for n in (1, 2)
]
ASKS.append(Ask(messages=({"role": "prompt", "content": "raw"},), sampling={}, is_chat=False))


def run(client, procedure, *, budget_s=60.0, alive=True, disturbed=lambda *_: None):
    """Everything that a procedure yields: requests and ends."""
    bench = Bench(
        client=client,
        sampling={"seed": 3, "max_tokens": 999},
        frame=lambda text: Ask(messages=({"role": "user", "content": text},), sampling={}),
        budget=Budget(budget_s),
        is_alive=lambda: alive,
        chars_per_token=4.0,
        disturbed=disturbed,
    )

    async def collect():
        items = [item async for item in procedure(bench)]
        return [i for i in items if not isinstance(i, Ended)], [i for i in items if isinstance(i, Ended)]

    return asyncio.run(collect())


def grid(**changes):
    whole = {"warm_up": 2, "requests": 4, "prompt_tokens": (), "reply_tokens": (9,), "precision": 0.0, **changes}
    return Grid(**whole)


def test_warm_up_goes_on_until_first_tokens_settle_and_says_when_they_do_not():
    timed, (end,) = run(Client(first_s=(0.9, 0.4, 0.1, 0.1, 0.1)), lambda bench: warm_up(bench, ASKS, 2))
    assert (len(timed), end.facts) == (5, {"requests": 5, "settled": True})
    timed, (end,) = run(Client(first_s=[2.0**n for n in range(20)]), lambda bench: warm_up(bench, ASKS, 1))
    assert (len(timed), end.facts["settled"]) == (12, False)
    assert run(Client(), lambda bench: warm_up(bench, ASKS, 0))[0] == []


def test_the_suites_prompts_are_taken_in_turn_and_every_prompt_is_new_to_a_cache():
    client = Client()
    timed, (end,) = run(client, lambda bench: time_latency(bench, ASKS, grid(requests=6), {}))
    contents = [ask.messages[-1]["content"] for ask in client.asked]
    assert len({text.split("\n")[0] for text in contents}) == 6 == len(timed) and end.why == "done"
    assert [text.split("\n\n")[1] for text in contents] == ["berth 1", "berth 2", "raw", "berth 1", "berth 2", "raw"]
    assert [ask.is_chat for ask in client.asked[:3]] == [True, True, False]
    assert all(ask.sampling == {"seed": 3, "max_tokens": 9} for ask in client.asked)
    assert client.asked[0].messages[0] == {"role": "system", "content": "s"}


def test_the_grid_asks_each_length_and_stops_when_precise_spent_or_at_a_fault():
    client = Client()
    two = grid(prompt_tokens=(100, 400), reply_tokens=(5, 9), requests=3)
    done = {point_name({"prompt_tokens": 100, "reply_tokens": 5}): 2}
    timed, (end,) = run(client, lambda bench: time_latency(bench, ASKS, two, done))
    assert [len([t for t in timed if t.point["prompt_tokens"] == length]) for length in (100, 400)] == [4, 6]
    for item, ask in zip(timed, client.asked, strict=True):
        assert item.exchange.trace.prompt_tokens == pytest.approx(item.point["prompt_tokens"], abs=40)
        assert ask.sampling["max_tokens"] == item.point["reply_tokens"]
    timed, (end,) = run(Client(), lambda bench: time_latency(bench, ASKS, grid(requests=90, precision=0.1), {}))
    assert (len(timed), end.why, end.facts["points"]) == (6, "precise", {"reply_tokens 9": "precise"})
    timed, (end,) = run(Client(), lambda bench: time_latency(bench, ASKS, grid(), {}), budget_s=0.0)
    assert (timed, end.why) == ([], "budget")
    timed, (end,) = run(Client(fails_at=3), lambda bench: time_latency(bench, ASKS, grid(), {}))
    assert (len(timed), end.why) == (3, "broke off")


def test_depths_that_the_window_cannot_hold_are_left_out_and_named():
    timed, (end,) = run(
        Client(), lambda bench: time_depths(bench, (900, 300, 4000), window=2048, repeats=2, reply_tokens=8)
    )
    assert [item.point["depth_tokens"] for item in timed] == [300, 300, 900, 900]
    assert end.facts["left_out_tokens"] == [4000]


@pytest.mark.parametrize(
    ("client", "alive", "said"),
    [
        (Client(fails_at=1), True, "an error: broke off"),
        (Client(fails_at=1), False, "the server died"),
        (Client(counts=lambda _: 999), True, "silently cut to 999 tokens"),
        (Client(counts=lambda _: None), True, "does not say"),
        (Client(), True, "window is larger"),
    ],
)
def test_what_a_server_does_past_its_window(client, alive, said):
    _, (end,) = run(client, lambda bench: try_past_window(bench, window=1000), alive=alive)
    assert said in end.facts["behaviour"]


def test_a_closed_loop_keeps_so_many_clients_busy():
    client = Client(delay_s=0.01)
    timed, (end,) = run(client, lambda bench: time_closed_loop(bench, (4, 1), requests=3, reply_tokens=8))
    assert client.most == 4 and [len([t for t in timed if t.point["concurrency"] == n]) for n in (1, 4)] == [3, 12]
    assert [count["concurrency"] for count in end.facts["counts"]] == [1, 4]
    _, (end,) = run(Client(fails_at=1), lambda bench: time_closed_loop(bench, (2,), requests=3, reply_tokens=8))
    assert end.why == "broke off" and end.facts["counts"][0]["faults"] == 2


def test_capacity_is_sought_from_the_scheduled_moment():
    # each request takes as long as there are requests: the first token is late under load
    search = Search(first_rate_rps=20, lasting_s=0.6, tries=6, reply_tokens=8, seed=1)
    limits = Limits(ttft_s=0.08, decode_tps=0)
    timed, (end,) = run(Client(delay_s=0.02), lambda bench: seek_capacity(bench, limits, search))
    held = [one["rate_rps"] for one in end.facts["tries"] if one["held"]]
    failed = [one["rate_rps"] for one in end.facts["tries"] if not one["held"]]
    # on a host that is busy all the time none may hold
    assert (end.facts["capacity_rps"], end.facts["fails_at_rps"]) == (max(held, default=None), min(failed))
    assert max(held, default=0) < min(failed)
    assert all(item.scheduled_lag_s >= 0 for item in timed)
    assert all(one["requests"] >= 8 or one["rate_rps"] * 0.6 < 8 for one in end.facts["tries"])
    fast = Search(first_rate_rps=4000, lasting_s=60.0, tries=1, reply_tokens=8, seed=1)
    _, (end,) = run(Client(), lambda bench: seek_capacity(bench, limits, fast))
    assert 400 < end.facts["tries"][0]["requests"] < 800  # a server that cannot keep up is not buried
    few = Search(first_rate_rps=40, lasting_s=0.2, tries=2, reply_tokens=8, seed=1)
    _, (end,) = run(Client(fails_at=1), lambda bench: seek_capacity(bench, limits, few))
    assert end.facts["capacity_rps"] is None and all(one["unanswered"] for one in end.facts["tries"])


class Stalls(Client):
    """Everything of ours stands still for a while at the first request."""

    async def ask(self, ask):
        if not self.asked:
            time.sleep(0.6)
        return await super().ask(ask)


def test_a_rate_that_does_not_hold_on_a_busy_host_has_another_go_and_else_says_so():
    search = Search(first_rate_rps=20, lasting_s=0.5, tries=1, reply_tokens=8, seed=1)
    once = len(arrival_times(20, 0.5, 1))

    def sought(client, *busy):
        said = iter(busy)
        timed, (end,) = run(
            client, lambda bench: seek_capacity(bench, Limits(ttft_s=0.2, decode_tps=0), search),
            disturbed=lambda *_: next(said, None),
        )  # fmt: skip
        (tried,) = end.facts["tries"]
        return len(timed) // once, tried["held"], tried["disturbed"]

    def slow(goes):
        return Client(first_s=(1.0,) * once * goes)

    assert sought(slow(1), "a build") == (2, True, None)
    assert sought(slow(1)) == (1, False, None)  # a quiet host: it is the server
    assert sought(slow(3), "a build", "a build", "a copy") == (3, False, "a copy")
    assert sought(Stalls()) == (2, True, None)  # what we sent late says nothing of the server


def test_the_filler_is_as_long_as_wanted_and_never_the_same():
    import random

    texts = {berth_log(length, random.Random(seed)) for seed in (1, 2) for length in (200, 2000)}
    assert len(texts) == 4 and all(200 <= len(t) < 300 or 2000 <= len(t) < 2100 for t in texts)


def test_a_large_tree_is_read_in_turns_and_comes_to_the_same(tmp_path):
    import psutil

    from kettlefield.rig.processes import MANY, TreeWatch

    kids = "import subprocess, sys\nkids = [subprocess.Popen(['sleep', '60']) for _ in range(20)]\nprint('in', flush=True)\nkids[0].wait()"
    parent = subprocess.Popen([sys.executable, "-c", kids], stdout=subprocess.PIPE)
    assert parent.stdout.readline() == b"in\n"
    watch = TreeWatch(parent.pid)
    exact = watch.memory(exact=True)
    assert len(watch.pids) == 21 > MANY
    truth = sum(p.memory_full_info().pss for p in (psutil.Process(parent.pid), *psutil.Process(parent.pid).children()))
    assert exact.host_bytes == pytest.approx(truth, rel=0.1) and 0 < exact.mapped_bytes < exact.host_bytes
    for _ in range(6):
        assert watch.memory().host_bytes == pytest.approx(exact.host_bytes, rel=0.1)
    assert watch.cpu_s() > 0
    for child in psutil.Process(parent.pid).children():
        child.kill()
    parent.wait()
    parent.stdout.close()
    assert watch.memory(exact=True) is None
    watch.close()


def test_waits_for_a_processor_add_up_by_the_thread_that_waited_longest(monkeypatch):
    from kettlefield.rig import waits

    now, stolen, delays = [100.0], [], {}
    monkeypatch.setattr(waits.time, "monotonic", lambda: now[0])
    monkeypatch.setattr(waits, "_stolen_s", lambda: list(stolen))
    monkeypatch.setattr(waits, "_delays_ns", lambda pid: [(task, round(s * 1e9)) for task, s in delays[pid].items()])
    watch = waits.ProcessorWaits()

    def look(passed_s, threads, taken_s=(0.0, 0.0)):
        now[0] += passed_s
        delays.clear()
        delays.update(threads)
        stolen[:] = taken_s
        watch.look(threads)
        return round(watch.waited_s, 6)

    assert look(1, {7: {"7": 0.25}}, (50.0, 60.0)) == 0.25  # what was stolen before the run began is none of its time
    assert look(1, {7: {"7": 0.5, "8": 0.5}, 9: {"9": 0.25}}, (50.0, 60.0)) == 0.75  # side by side they wait once
    assert (
        look(1, {7: {"7": 0.5, "8": 0.5}}, (50.0, 60.125)) == 0.875
    )  # nobody waited, a neighbour took of one processor
    assert look(1, {7: {"7": 9.5}}, (55.0, 60.125)) == 1.875  # never more than has passed
    assert look(1, {7: {"7": 9.0}}, (54.0, 60.0)) == 1.875  # counters that go back take nothing away
    assert look(1, {}, (54.0, 60.0)) == look(1, {7: {}}, ()) == 1.875  # it has ended; the kernel does not say
