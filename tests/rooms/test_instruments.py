"""The instruments against things whose measure is known: a process that takes memory, a client that counts."""

import asyncio
import subprocess
import sys
import time

import pytest

from kettlefield.core.timeline import Trace
from kettlefield.instrument.memory import MemorySampler
from kettlefield.instrument.speed import SpeedSettings, time_requests
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
    now = 0

    def used_by(self, pids):
        assert len(pids) == 2
        return self.now

    def used(self):
        return self.now


@pytest.fixture
def hungry():
    process = subprocess.Popen([sys.executable, "-c", HUNGRY], stdout=subprocess.PIPE)
    assert process.stdout.readline() == b"in\n"
    yield process
    for pid in reversed(process_tree(process.pid)):
        subprocess.run(["kill", "-9", str(pid)], check=False)
    process.wait()
    process.stdout.close()


def test_memory_of_the_whole_tree_by_phase(hungry):
    assert len(process_tree(hungry.pid)) == 2
    card = Card()
    card.now = 7 * MIB
    sampler = MemorySampler(hungry.pid, card, 0.02)
    time.sleep(0.2)
    first = sampler.finish_phase("load")
    card.now = 9 * MIB
    second = sampler.finish_phase("answers")
    sampler.stop()
    # 100 MiB were taken; two interpreters and their libraries come on top
    assert 100 * MIB < first.host_peak_bytes < 160 * MIB
    assert (first.accelerator_peak_bytes, second.accelerator_peak_bytes) == (7 * MIB, 9 * MIB)
    assert first.peak_bytes == first.host_peak_bytes + 7 * MIB
    assert first.samples.shape[1] == 3 and len(first.samples) >= 2
    assert all(later >= earlier for earlier, later in zip(first.samples[:, 0], first.samples[1:, 0], strict=False))
    assert second.phase == "answers"


def test_shared_pages_count_once(hungry):
    parent, child = process_tree(hungry.pid)
    assert proportional_bytes(parent) + proportional_bytes(child) < resident_bytes(parent) + resident_bytes(child)
    assert (process_tree(2**22 - 1), resident_bytes(2**22 - 1), proportional_bytes(2**22 - 1)) == ([], 0, 0)


def test_a_process_that_is_gone_leaves_no_samples():
    done = subprocess.Popen([sys.executable, "-c", ""])
    done.wait()
    sampler = MemorySampler(done.pid, None, 0.01)
    assert sampler.finish_phase("load") is None
    sampler.stop()


class Client:
    """Answers at once and remembers what it was asked; fails from a given request on."""

    def __init__(self, fails_at=None):
        self.asked, self.fails_at = [], fails_at

    async def ask(self, ask):
        self.asked.append(ask)
        fault = "broke off" if self.fails_at == len(self.asked) else None
        trace = Trace(stamps_s=(), thinking=(), finished_s=0.0)
        return Exchange(
            ask=ask,
            asked_at=0,
            sent_s=0,
            in_flight=1,
            text="",
            thinking="",
            trace=trace,
            finish_reason="stop",
            fault=fault,
        )

    async def close(self):
        """Nothing to let go of."""


def timed(client, **settings):
    asks = [
        Ask(messages=({"role": "system", "content": "s"}, {"role": "user", "content": f"berth {n}"}), sampling={})
        for n in (1, 2)
    ]
    asks.append(Ask(messages=({"role": "prompt", "content": "raw"},), sampling={}, is_chat=False))

    async def run():
        whole = SpeedSettings(**{"warm_up": 2, "requests": 4, "reply_tokens": 9, **settings})
        return [purpose async for purpose, _ in time_requests(client, asks, {"seed": 3, "max_tokens": 999}, whole)]

    return asyncio.run(run())


def test_warm_ups_come_first_and_every_prompt_is_new_to_a_cache():
    client = Client()
    assert timed(client) == ["warm-up"] * 2 + ["speed"] * 4
    contents = [ask.messages[-1]["content"] for ask in client.asked]
    assert len({text.split("\n")[0] for text in contents}) == 6
    assert [text.split("\n\n")[1] for text in contents] == ["berth 1", "berth 2", "raw", "berth 1", "berth 2", "raw"]
    assert [ask.is_chat for ask in client.asked[:3]] == [True, True, False]
    assert all(ask.sampling == {"seed": 3, "max_tokens": 9} for ask in client.asked)
    assert client.asked[0].messages[0] == {"role": "system", "content": "s"}


def test_timing_stops_at_the_first_fault():
    client = Client(fails_at=4)
    assert timed(client) == ["warm-up"] * 2 + ["speed"] * 2
    assert timed(Client(), warm_up=0, requests=0) == []
