"""The little model as a source of true moments: a server that really works, unevenly, and logs what it sends."""

import asyncio
import contextlib
import json
import tempfile
import time
from collections.abc import AsyncIterator
from pathlib import Path

import numpy as np
import numpy.typing as npt

from kettlefield.core.errors import RigError
from kettlefield.demo.little.level_files import write_level
from kettlefield.server.exchange import Ask, Exchange
from kettlefield.server.http_client import HttpClient
from kettlefield.server.process import Launch, start_server

REAL_STREAMS = (1, 6)
REAL_LEVEL = "q8_0"
REPLY_TOKENS = 32
Moments = npt.NDArray[np.float64]
Found = list[tuple[Moments, Moments]]  # of each reply, when its events were sent and when they were stamped


async def ask_little(count: int, seconds: float) -> Found:
    """Ask the little model with so many clients for so long.

    Returns
    -------
    list of (true_s, seen_s)
        For each reply the moments at which its events were sent and stamped, each of shape (events,), on one
        clock, in seconds.

    Raises
    ------
    RigError
        It does not start, or fails.
    """
    with tempfile.TemporaryDirectory() as place:
        folder = Path(place)
        async with _served(folder) as url:
            done = await _ask_for(url, count, seconds)
        sent = {}
        for line in (folder / "true.jsonl").read_text(encoding="utf-8").splitlines():
            entry = json.loads(line)
            sent[entry["prompt"]] = np.asarray(entry["sent_s"])
    found = []
    for prompt, exchange in done.items():
        true_s, seen_s = sent.get(prompt), np.asarray(exchange.trace.stamps_s) + exchange.sent_s
        if exchange.fault is not None or true_s is None or len(true_s) != len(seen_s):
            raise RigError(f"the little model's server failed: {exchange.fault}", "calibrate --real", "Try again.")
        if len(true_s):
            found.append((true_s, seen_s))
    return found


async def _ask_for(url: str, count: int, seconds: float) -> dict[str, Exchange]:
    client = HttpClient(url, reply_within_s=60, model="little")
    until_s = time.perf_counter() + seconds
    done: dict[str, Exchange] = {}

    async def stream(number: int) -> None:
        turn = 0
        while time.perf_counter() < until_s or not turn:
            prompt = f"client {number} asks {turn}: count fares"  # within what the true log keeps of it
            settings = {"temperature": 0, "max_tokens": REPLY_TOKENS}
            done[prompt] = await client.ask(Ask(messages=({"role": "user", "content": prompt},), sampling=settings))
            turn += 1

    await asyncio.gather(*(stream(number) for number in range(count)))
    await client.close()
    return done


@contextlib.asynccontextmanager
async def _served(folder: Path) -> AsyncIterator[str]:
    write_level(REAL_LEVEL, folder / "little.gguf")
    command = ("{python}", "-m", "kettlefield.demo.little", "--weights", "{weights}", "--port", "{port}")
    launch = Launch(
        command=(*command, "--slots", str(max(REAL_STREAMS)), "--true-log", "true.jsonl"),
        fields={"weights": "little.gguf"},
        ready_paths=("/health",),
        ready_within_s=30,
        log=folder / "server.log",
        folder=folder,
    )
    server = start_server(launch)
    try:
        await server.wait_ready()
        yield server.url
    finally:
        await server.stop()
