"""The stopwatch's error: what `kettlefield calibrate` measures, beside a raw-socket reader in the same run.

A server on the beat puts its monotonic clock into each event. Our client and a bare reader (non-blocking
sockets, one poll, no parsing before the stamp) take turns on it. Lag is the stamp less the clock inside the
event; it holds the kernel's and the sender's share too, so what counts is the difference.

    python benchmarks/stopwatch.py [--seconds 4] [--turns 2]
"""

import argparse
import multiprocessing
import selectors
import socket
import subprocess
import sys
import time
from collections.abc import Callable

import numpy as np
import psutil
import uvloop

from kettlefield.measure.calibration import STREAMS, beat
from kettlefield.measure.metronome import true_moments

RATE_HZ = 50
EVENTS = 100  # of a reply: so long that readers seldom wait for a new connection
REQUEST = b"POST /v1/chat/completions HTTP/1.1\r\nHost: x\r\nContent-Length: 0\r\n\r\n"


def by_client(port: int, streams: int, seconds: float) -> tuple[np.ndarray, int]:
    """Lags of our client, shape (events,), seconds, and this process's resident bytes."""
    found = uvloop.run(beat(port, streams, seconds))
    return np.concatenate([seen - true for true, seen in found]), int(psutil.Process().memory_info().rss)


def by_raw_reader(port: int, streams: int, seconds: float) -> tuple[np.ndarray, int]:
    """The same of the bare reader: a connection that ends is opened again until the time is over."""
    lags: list[float] = []
    until_s = time.perf_counter() + seconds

    def connect(selector: selectors.DefaultSelector) -> None:
        connection = socket.create_connection(("127.0.0.1", port))
        connection.sendall(REQUEST)
        connection.setblocking(False)
        selector.register(connection, selectors.EVENT_READ)

    with selectors.DefaultSelector() as selector:
        for _ in range(streams):
            connect(selector)
        while selector.get_map():
            for key, _ in selector.select():
                data = key.fileobj.recv(65536)  # type: ignore[union-attr]
                stamp_s = time.perf_counter()
                lags += [stamp_s - moment for moment in true_moments(data)]
                if not data:
                    selector.unregister(key.fileobj)
                    key.fileobj.close()  # type: ignore[union-attr]
                    if time.perf_counter() < until_s:
                        connect(selector)
    return np.asarray(lags), int(psutil.Process().memory_info().rss)


def in_own_process(
    read: Callable[[int, int, float], tuple[np.ndarray, int]], port: int, streams: int, seconds: float
) -> tuple[np.ndarray, int]:
    """Neither reader inherits what the other has warmed up."""
    with multiprocessing.get_context("spawn").Pool(1) as pool:
        return pool.apply(read, (port, streams, seconds))


def main() -> None:
    """Print the medians, the 99th percentiles and their differences."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--seconds", type=float, default=4.0)
    parser.add_argument("--turns", type=int, default=2)
    args = parser.parse_args()
    command = [sys.executable, "-m", "kettlefield.measure.metronome", "--rate", str(RATE_HZ), "--events", str(EVENTS)]
    server = subprocess.Popen(command, stdout=subprocess.PIPE, text=True)
    assert server.stdout is not None
    port = int(server.stdout.readline())
    print(f"lag in ms at {RATE_HZ} events/s a stream; {args.turns} turns of {args.seconds:g} s each")
    heads = ("raw p50", "ours p50", "differ", "ratio", "raw p99", "ours p99", "differ", "MiB")
    print(f"{'streams':>7} {'events':>7}" + "".join(f"{head:>9}" for head in heads))
    for streams in STREAMS:
        raw, ours, resident = [], [], 0
        for _ in range(args.turns):
            raw.append(in_own_process(by_raw_reader, port, streams, args.seconds)[0])
            lags, resident = in_own_process(by_client, port, streams, args.seconds)
            ours.append(lags)
        (r50, r99), (o50, o99) = (np.quantile(np.concatenate(lags) * 1e3, [0.5, 0.99]) for lags in (raw, ours))
        figures = (r50, o50, o50 - r50, o50 / r50, r99, o99, o99 - r99, resident / 2**20)
        print(f"{streams:7} {sum(map(len, ours)):7}" + "".join(f"{figure:9.3f}" for figure in figures))
    server.kill()


if __name__ == "__main__":
    main()
