"""The stopwatch's error: our client's arrival stamps against a raw-socket reader of the same kind of stream.

A sender process writes events at a steady rate and puts its monotonic clock into each. Our client and a
bare reader (non-blocking sockets, one poll, no parsing before the stamp) take turns on it, in this run, on
this machine. Lag is the stamp less the clock inside the event; it holds the kernel's and the sender's share
too, so what counts is the difference.

    python benchmarks/stopwatch.py [--seconds 4] [--turns 2]
"""

import argparse
import asyncio
import json
import multiprocessing
import re
import selectors
import socket
import time
from collections.abc import Callable

import numpy as np
import uvloop

from kettlefield.server.exchange import Ask
from kettlefield.server.http_client import HttpClient

STREAMS = (1, 16, 64)
RATE_TPS = 50
HEAD = b"HTTP/1.1 200 OK\r\nContent-Type: text/event-stream\r\nConnection: close\r\n\r\n"
REQUEST = b"POST /v1/chat/completions HTTP/1.1\r\nHost: x\r\nContent-Length: 0\r\n\r\n"
CLOCK = re.compile(rb"@(\d+\.\d+)@")


def send(port: "multiprocessing.Queue[int]", seconds: float) -> None:
    """The sender: every connection gets its own evenly spaced stream."""

    async def stream(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        await reader.readuntil(b"\r\n\r\n")
        writer.write(HEAD)
        began = time.perf_counter()
        for number in range(round(seconds * RATE_TPS)):
            await asyncio.sleep(max(0.0, began + number / RATE_TPS - time.perf_counter()))
            delta = {"choices": [{"delta": {"content": f"@{time.perf_counter():.7f}@"}}]}
            writer.write(f"data: {json.dumps(delta)}\n\n".encode())
        writer.write(b'data: {"choices": [{"delta": {}, "finish_reason": "stop"}]}\n\ndata: [DONE]\n\n')
        await writer.drain()
        writer.close()

    async def serve() -> None:
        server = await asyncio.start_server(stream, "127.0.0.1", 0)
        port.put(server.sockets[0].getsockname()[1])
        await server.serve_forever()

    uvloop.run(serve())


def by_client(port: int, streams: int) -> np.ndarray:
    """Lags of our client, shape (events,), seconds."""

    async def run() -> np.ndarray:
        client = HttpClient(f"http://127.0.0.1:{port}", reply_within_s=60, model="m")
        ask = Ask(messages=({"role": "user", "content": "x"},), sampling={})
        found = await asyncio.gather(*(client.ask(ask) for _ in range(streams)))
        await client.close()
        lags = []
        for exchange in found:
            sent = [float(clock) for clock in CLOCK.findall(exchange.text.encode())]
            lags += list(np.asarray(exchange.trace.stamps_s) + exchange.sent_s - sent)
        return np.asarray(lags)

    return uvloop.run(run())


def by_raw_reader(port: int, streams: int) -> np.ndarray:
    """Lags of the bare reader, shape (events,), seconds."""
    chunks: list[tuple[float, bytes]] = []
    with selectors.DefaultSelector() as selector:
        for _ in range(streams):
            connection = socket.create_connection(("127.0.0.1", port))
            connection.sendall(REQUEST)
            connection.setblocking(False)
            selector.register(connection, selectors.EVENT_READ)
        while selector.get_map():
            for key, _ in selector.select():
                data = key.fileobj.recv(65536)  # type: ignore[union-attr]
                chunks.append((time.perf_counter(), data))
                if not data:
                    selector.unregister(key.fileobj)
                    key.fileobj.close()  # type: ignore[union-attr]
    return np.asarray([stamp - float(clock) for stamp, data in chunks for clock in CLOCK.findall(data)])


def in_own_process(read: Callable[[int, int], np.ndarray], port: int, streams: int) -> np.ndarray:
    """Neither reader inherits what the other has warmed up."""
    with multiprocessing.get_context("spawn").Pool(1) as pool:
        return pool.apply(read, (port, streams))


def main() -> None:
    """Print the medians, the 99th percentiles and their differences."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--seconds", type=float, default=4.0)
    parser.add_argument("--turns", type=int, default=2)
    args = parser.parse_args()
    port: multiprocessing.Queue[int] = multiprocessing.Queue()
    sender = multiprocessing.Process(target=send, args=(port, args.seconds), daemon=True)
    sender.start()
    where = port.get()
    print(f"lag in ms at {RATE_TPS} events/s a stream; {args.turns} turns of {args.seconds:g} s each")
    heads = ("raw p50", "ours p50", "differ", "ratio", "raw p99", "ours p99")
    print(f"{'streams':>7} {'events':>7}" + "".join(f"{head:>9}" for head in heads))
    for streams in STREAMS:
        raw, ours = [], []
        for _ in range(args.turns):
            raw.append(in_own_process(by_raw_reader, where, streams))
            ours.append(in_own_process(by_client, where, streams))
        (r50, r99), (o50, o99) = (np.quantile(np.concatenate(lags) * 1e3, [0.5, 0.99]) for lags in (raw, ours))
        events = sum(map(len, ours))
        print(f"{streams:7} {events:7} {r50:8.3f} {o50:8.3f} {o50 - r50:8.3f} {o50 / r50:8.2f} {r99:8.3f} {o99:8.3f}")
    sender.terminate()


if __name__ == "__main__":
    main()
