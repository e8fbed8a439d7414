"""``python -m kettlefield.standin``: a simulated inference server, started like any other."""

import argparse
import sys
from pathlib import Path

from aiohttp import web

from kettlefield.core.errors import KettlefieldError
from kettlefield.core.units import format_bytes
from kettlefield.rig.simulated_card import claim_bytes, read_card, used_bytes
from kettlefield.standin.app import App, Settings
from kettlefield.standin.models import load_model
from kettlefield.standin.physics import Physics
from kettlefield.standin.replies import Replier
from kettlefield.suite.loader import find_suite, load_suite


def main() -> int:
    """Serve until stopped."""
    parser = argparse.ArgumentParser(prog="kettlefield.standin", description="A simulated inference server.")
    parser.add_argument("--weights", type=Path, required=True, help="a weights file that the demo wrote")
    parser.add_argument("--card", type=Path, required=True, help="folder of the simulated accelerator")
    parser.add_argument("--port", type=int, required=True)
    parser.add_argument("--level", required=True)
    parser.add_argument("--suite", default="berthdesk", help="suite whose answers it gives")
    parser.add_argument("--context", type=int, default=4096, help="tokens a slot")
    parser.add_argument("--slots", type=int, default=1)
    parser.add_argument("--die-after", type=int, help="fault for tests: end after so many requests")
    args = parser.parse_args()
    try:
        return _serve(args)
    except KettlefieldError as err:
        print(f"standin: {err}", file=sys.stderr)
        return 2


def _serve(args: argparse.Namespace) -> int:
    card, model = read_card(args.card), load_model(args.weights)
    physics = Physics(model, card)
    need, free = (
        physics.memory_bytes(args.context, args.slots),
        card.memory_bytes - sum(used_bytes(args.card).values()),
    )
    if need > free:
        print(
            f"out of memory on {card.name}: needs {format_bytes(need)}, {format_bytes(free)} free",
            file=sys.stderr,
        )
        return 1
    suite = load_suite(find_suite(args.suite, Path.cwd()))
    settings = Settings(
        physics=physics,
        replier=Replier(model, args.level, suite.exercises),
        card=args.card,
        level=args.level,
        context_tokens=args.context,
        slots=args.slots,
        die_after=args.die_after,
    )
    claim_bytes(args.card, 0)
    web.run_app(App(settings).build(), host="127.0.0.1", port=args.port, print=None, access_log=None)
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
