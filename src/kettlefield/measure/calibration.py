"""The instruments' own error on this rig: the measuring path against servers whose true moments are known."""

import asyncio
import contextlib
import json
import os
import subprocess
import sys
import tempfile
import time
from collections.abc import AsyncIterator, Awaitable, Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

import msgspec
import numpy as np
import numpy.typing as npt
import psutil

from kettlefield.core.errors import RigError
from kettlefield.core.timing.timeline import quantile
from kettlefield.measure.metronome import true_moments
from kettlefield.measure.sampler import Sampler
from kettlefield.rig.remembered import recall, remember
from kettlefield.server.exchange import Ask, Exchange
from kettlefield.server.http_client import HttpClient
from kettlefield.server.process import Launch, start_server

REAL_STREAMS = (1, 6)
REAL_LEVEL = "q8_0"
REPLY_TOKENS = 32
Moments = npt.NDArray[np.float64]
Found = list[tuple[Moments, Moments]]  # of each reply, when its events were sent and when they were stamped


async def ask_little(count: int, seconds: float) -> Found:
    """Ask the little model at a concurrency for a time.

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
    pairs = []
    for prompt, exchange in done.items():
        true_s, seen_s = sent.get(prompt), np.asarray(exchange.trace.stamps_s) + exchange.sent_s
        if exchange.fault is not None or true_s is None or len(true_s) != len(seen_s):
            raise RigError(f"the little model's server failed: {exchange.fault}", "calibrate --real", "Try again.")
        if len(true_s):
            pairs.append((true_s, seen_s))
    return pairs


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
    # programs of their own: the instruments import nothing of the demo
    level = (sys.executable, "-m", "kettlefield.demo.little.level_files", REAL_LEVEL, str(folder / "little.gguf"))
    writer = await asyncio.create_subprocess_exec(*level, stderr=asyncio.subprocess.PIPE)
    _, message = await writer.communicate()
    if writer.returncode:
        raise RigError(f"the little model could not be written: {message.decode()}", "calibrate --real", "Try again.")
    command = ("{python}", "-m", "kettlefield.demo.little", "--weights", "{weights}", "--port", "{port}")
    launch = Launch(
        command=(*command, "--concurrency", str(max(REAL_STREAMS)), "--true-log", "true.jsonl"),
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


STREAMS = (1, 8, 32, 64)
SAMPLER_HZ = 20
RATE_HZ = 50
CACHE = "calibration"


class StreamError(msgspec.Struct, frozen=True, kw_only=True):
    """The error with a number of streams at once; seconds, later than the truth where above 0."""

    streams: int
    events: int
    bias_s: float  # mean over all events
    first_p50_s: float  # of a reply's first event
    first_p99_s: float
    itl_p50_s: float  # size of the error of a gap between two events
    itl_p99_s: float
    event_p99_s: float  # of any event
    cpu_share: float  # of one core, all of this process
    resident_bytes: int  # of this process, when it was done


class Calibration(msgspec.Struct, frozen=True, kw_only=True):
    """What a calibration found."""

    at: float  # seconds since the epoch
    streams: tuple[StreamError, ...]
    floor_s: float  # 99 of 100 events of a single stream are stamped within this of the truth
    real: tuple[StreamError, ...] = ()  # against the little model, which keeps a core busy meanwhile
    sampler_hz: float
    sampler_share: float  # of one core
    sampler_looks: int
    disturbed: str | None = None  # what the host was busy with meanwhile: then calibrate again when it is quiet
    sampler_missed: int  # looks that the schedule asked for and that were not taken


def calibrate(seconds: float, tell: Callable[[str], None], *, real: bool = False) -> Calibration:
    """Measure this rig's errors; takes four times ``seconds``.

    Parameters
    ----------
    seconds : float
        For each number of streams, above 0.
    tell : callable
        Told what is being done.
    real : bool
        Against the little model too: a server that really works, and does so unevenly.

    Raises
    ------
    RigError
        A server does not start.
    """
    errors = []
    with _metronome() as (port, pid):
        sampler = Sampler(pid, None, 1 / SAMPLER_HZ)
        began_s = time.perf_counter()
        try:
            for count in STREAMS:
                tell(f"{count} streams")
                errors.append(_run(_one(count, beat(port, count, seconds))))
        finally:
            lasted_s = time.perf_counter() - began_s
            seen = sampler.finish_phase("calibration")
            disturbed = sampler.disturbed(began_s, began_s + lasted_s)
            sampler.stop()
    worked = []
    if real:
        for count in REAL_STREAMS:
            tell(f"{count} streams of the little model")
            worked.append(_run(_one(count, ask_little(count, seconds))))
    looks = len(seen.samples) - 1 if seen is not None else 0  # one of them was ours
    return Calibration(
        at=time.time(),
        streams=tuple(errors),
        floor_s=max(0.0, *(rows[0].event_p99_s for rows in (errors, worked) if rows)),
        real=tuple(worked),
        sampler_hz=SAMPLER_HZ,
        sampler_share=sampler.cpu_s / lasted_s,
        sampler_looks=looks,
        disturbed=disturbed,
        sampler_missed=max(0, int(lasted_s * SAMPLER_HZ) - looks),
    )


def stored_calibration(fingerprint: str) -> Calibration | None:
    """What was found last on the rig with this fingerprint."""
    stored = recall(CACHE, fingerprint)
    try:
        return msgspec.convert(stored, Calibration) if stored is not None else None
    except msgspec.ValidationError:
        return None  # written by another version


def store_calibration(fingerprint: str, calibration: Calibration) -> None:
    """Keep it for the campaigns that come."""
    remember(CACHE, fingerprint, msgspec.to_builtins(calibration))


def _run(work: "asyncio.Future[StreamError] | object") -> StreamError:
    try:
        import uvloop  # noqa: PLC0415 - as the campaign runs
    except ImportError:
        return asyncio.run(work)  # type: ignore[arg-type]
    return uvloop.run(work)  # type: ignore[arg-type]


async def beat(port: int, count: int, seconds: float) -> Found:
    """Ask the server on the beat at a concurrency for a time.

    Returns
    -------
    list of (true_s, seen_s)
        For each reply the moments at which its events were sent and stamped, each of shape (events,), on one
        clock, in seconds.

    Raises
    ------
    RigError
        The server fails.
    """
    client = HttpClient(f"http://127.0.0.1:{port}", reply_within_s=60, model="metronome")
    ask = Ask(messages=({"role": "user", "content": "beat"},), sampling={})
    until_s = time.perf_counter() + seconds
    done: list[Exchange] = []

    async def stream(number: int) -> None:
        # out of step with the others: real clients do not all begin at the same moment
        await asyncio.sleep(number / count / RATE_HZ * 10)
        while time.perf_counter() < until_s:
            done.append(await client.ask(ask))

    await asyncio.gather(*(stream(number) for number in range(count)))
    await client.close()
    errors = []
    for exchange in done:
        true_s = np.asarray(true_moments(exchange.text.encode()))
        seen_s = np.asarray(exchange.trace.stamps_s) + exchange.sent_s
        if exchange.fault is not None or len(true_s) != len(seen_s) or not len(true_s):
            raise RigError(f"the calibration's own server failed: {exchange.fault}", "calibrate", "Try again.")
        errors.append((true_s, seen_s))
    return errors


async def _one(count: int, asking: Awaitable[Found]) -> StreamError:
    before, began_s = time.process_time(), time.perf_counter()
    exchange = await asking
    cpu, lasted = time.process_time() - before, time.perf_counter() - began_s
    lags, firsts, gaps = [], [], []
    for true_s, seen_s in exchange:
        lags += list(seen_s - true_s)
        firsts.append(float(seen_s[0] - true_s[0]))
        gaps += list(np.abs(np.diff(seen_s) - np.diff(true_s)))
    return StreamError(
        streams=count,
        events=len(lags),
        bias_s=float(np.mean(lags)),
        first_p50_s=quantile(firsts, 0.5),
        first_p99_s=quantile(firsts, 0.99),
        itl_p50_s=quantile(gaps, 0.5),
        itl_p99_s=quantile(gaps, 0.99),
        event_p99_s=quantile(lags, 0.99),
        cpu_share=cpu / lasted,
        resident_bytes=int(psutil.Process(os.getpid()).memory_info().rss),
    )


@contextmanager
def _metronome() -> Iterator[tuple[int, int]]:
    """The server's port and process id."""
    command = [sys.executable, "-m", "kettlefield.measure.metronome", "--rate", str(RATE_HZ)]
    process = subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True)
    try:
        assert process.stdout is not None  # noqa: S101 - it is a pipe
        port = process.stdout.readline().strip()
        if not port.isdigit():
            raise RigError("the server on the beat did not start", "calibrate", "See `kettlefield rig`.")
        yield int(port), process.pid
    finally:
        process.kill()
        process.wait()
        if process.stdout is not None:
            process.stdout.close()
