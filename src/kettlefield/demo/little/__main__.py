"""``python -m kettlefield.demo.little``: serve a real little model, started like any other server."""

import argparse
import os
import sys
from pathlib import Path

from aiohttp import web

from kettlefield.core.errors import InputError, KettlefieldError
from kettlefield.demo.http_front import Front
from kettlefield.demo.little.little_server import LittleServer
from kettlefield.demo.little.little_weights import load_weights

# the arithmetic is too small to share out: more threads only wait for each other, and grading needs the cores
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
os.environ.setdefault("OMP_NUM_THREADS", "1")


MOST_SLOTS = 64


def main() -> int:
    """Serve until stopped."""
    parser = argparse.ArgumentParser(prog="kettlefield.demo.little", description="Serve a real little model.")
    parser.add_argument("--weights", type=Path, required=True, help="a level's GGUF file")
    parser.add_argument("--port", type=int, required=True)
    parser.add_argument("--level", help="refuse to start if the file is of another")
    parser.add_argument("--context", type=int, help="tokens a slot (default: all that the model has)")
    parser.add_argument("--concurrency", type=int, default=1, help="requests at once")
    parser.add_argument("--kv-bits", type=int, choices=(16, 8), default=16, help="of a key or value element")
    parser.add_argument("--prompt-cache", action="store_true", help="read the beginning of a prompt only once")
    parser.add_argument("--true-log", type=Path, help="one line of JSON a request: when its pieces were really sent")
    args = parser.parse_args()
    try:
        return _serve(args)
    except KettlefieldError as err:
        print(f"little: {err}", file=sys.stderr)
        return 2


def _serve(args: argparse.Namespace) -> int:
    weights = load_weights(args.weights)
    if args.level is not None and args.level != weights.level:
        raise InputError(f"holds level {weights.level}, asked for was {args.level}", str(args.weights), "Name its own.")
    context = weights.shape.context_tokens if args.context is None else args.context
    if not 2 <= context <= weights.shape.context_tokens:
        hint = f"The model has 2 to {weights.shape.context_tokens}."
        raise InputError(f"a context of {context} tokens", "--context", hint)
    if not 1 <= args.concurrency <= MOST_SLOTS:
        raise InputError(f"{args.concurrency} slots", "--concurrency", f"Name 1 to {MOST_SLOTS}.")
    backend = LittleServer(
        weights,
        context_tokens=context,
        slots=args.concurrency,
        bits=args.kv_bits,
        keep_prompts=args.prompt_cache,
        true_log=args.true_log,
    )
    print(f"{backend.model_id}: {weights.size_bytes} bytes of weights, {backend.engine.kv_bytes} of cache", flush=True)
    web.run_app(Front(backend).build(), host="127.0.0.1", port=args.port, print=None, access_log=None)
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
