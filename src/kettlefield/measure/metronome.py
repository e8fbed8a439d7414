"""A server that sends events on a steady beat, the true moment inside each: the reference of a stopwatch.

``python -m kettlefield.measure.metronome`` prints its port and serves until it is ended. Moments are of the
monotonic clock that all processes of this host share.
"""

import argparse
import asyncio
import re
import sys
import time

import msgspec

HEAD = b"HTTP/1.1 200 OK\r\nContent-Type: text/event-stream\r\nConnection: close\r\n\r\n"
TAIL = b'data: {"choices": [{"delta": {}, "finish_reason": "stop"}]}\n\ndata: [DONE]\n\n'
CLOCK = re.compile(rb"@(\d+\.\d+)@")


def true_moments(text: bytes) -> list[float]:
    """The moments at which events were sent, in seconds, from the text that they hold."""
    return [float(moment) for moment in CLOCK.findall(text)]


async def serve(events: int, rate_hz: float) -> None:
    """Answer every connection with a number of events on the beat; each on its own."""

    async def stream(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        await reader.readuntil(b"\r\n\r\n")
        writer.write(HEAD)
        began = time.perf_counter() + 1 / rate_hz
        for number in range(events):
            await asyncio.sleep(max(0.0, began + number / rate_hz - time.perf_counter()))
            delta = {"choices": [{"delta": {"content": f"@{time.perf_counter():.7f}@"}}]}
            writer.write(b"data: " + msgspec.json.encode(delta) + b"\n\n")
        writer.write(TAIL)
        await writer.drain()
        writer.close()

    server = await asyncio.start_server(stream, "127.0.0.1", 0, backlog=512)
    print(server.sockets[0].getsockname()[1], flush=True)
    await server.serve_forever()


def main() -> int:
    """Serve until ended."""
    parser = argparse.ArgumentParser(prog="kettlefield.measure.metronome", description="Events on a steady beat.")
    parser.add_argument("--events", type=int, default=10, help="in each reply")
    parser.add_argument("--rate", type=float, default=50.0, help="events a second")
    args = parser.parse_args()
    try:
        import uvloop  # noqa: PLC0415 - the plain loop sleeps in whole milliseconds

        uvloop.run(serve(args.events, args.rate))
    except ImportError:
        asyncio.run(serve(args.events, args.rate))
    except KeyboardInterrupt:
        return 130
    return 0


if __name__ == "__main__":
    sys.exit(main())
