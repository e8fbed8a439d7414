"""``python -m kettlefield.demo``: a simulated inference server, started like any other."""

import argparse
import sys
from pathlib import Path

import msgspec
from aiohttp import web

from kettlefield.core.errors import KettlefieldError
from kettlefield.core.units import format_bytes
from kettlefield.demo.http_front import Front
from kettlefield.demo.simulated_engine import add_quirks, read_quirks
from kettlefield.demo.simulated_models import Physics, load_model
from kettlefield.demo.simulated_replies import Replier, SimulatedJudge, read_biases
from kettlefield.demo.simulated_server import Settings, SimulatedServer
from kettlefield.grading.checks.all_checks import CHECKS
from kettlefield.rig.simulated_card import claim_bytes, read_card, used_bytes
from kettlefield.suite.format import SELECTIONS, Exercise, Selection
from kettlefield.suite.loader import find_suite, read_suite


def main() -> int:
    """Serve until stopped."""
    parser = argparse.ArgumentParser(prog="kettlefield.demo", description="A simulated inference server.")
    parser.add_argument("--weights", type=Path, required=True, help="a weights file that the demo wrote")
    parser.add_argument("--card", type=Path, required=True, help="folder of the simulated accelerator")
    parser.add_argument("--port", type=int, required=True)
    parser.add_argument("--level", required=True)
    parser.add_argument(
        "--suite", action="append", metavar="NAME[:SEED]", help="suite whose answers it gives (default berthdesk)"
    )
    parser.add_argument("--selection", choices=SELECTIONS, default="all", help="of each suite")
    parser.add_argument(
        "--memorised", action="store_true", help="as a model that learned seed 0 by heart: any seed gets its answers"
    )
    parser.add_argument("--context", type=int, default=4096, help="tokens a slot")
    parser.add_argument("--concurrency", type=int, default=1)
    parser.add_argument(
        "--judge", metavar="LEANS", help="judge replies too, leaning so: place=0.3,length=0.2,noise=0.1"
    )
    add_quirks(parser)
    args = parser.parse_args()
    try:
        return _serve(args)
    except KettlefieldError as err:
        print(f"simulated server: {err}", file=sys.stderr)
        return 2


def _serve(args: argparse.Namespace) -> int:
    card, model = read_card(args.card), load_model(args.weights)
    physics = Physics(model, card)
    need, free = (
        physics.memory_bytes(0 if args.cache_on_demand else args.context, args.concurrency),
        card.memory_bytes - sum(used_bytes(args.card).values()),
    )
    if need > free:
        print(
            f"out of memory on {card.name}: needs {format_bytes(need)}, {format_bytes(free)} free",
            file=sys.stderr,
        )
        return 1
    exercises = tuple(
        exercise
        for name in args.suite or ["berthdesk"]
        for exercise in _exercises(name, args.selection, memorised=args.memorised)
    )
    settings = Settings(
        physics=physics,
        replier=Replier(model, args.level, exercises),
        judge=SimulatedJudge(read_biases(args.judge), exercises) if args.judge is not None else None,
        card=args.card,
        level=args.level,
        context_tokens=args.context,
        slots=args.concurrency,
        quirks=read_quirks(args),
    )
    claim_bytes(args.card, 0)
    web.run_app(Front(SimulatedServer(settings)).build(), host="127.0.0.1", port=args.port, print=None, access_log=None)
    return 0


def _exercises(name: str, selection: Selection, *, memorised: bool) -> tuple[Exercise, ...]:
    name, _, seed = name.partition(":")
    suite = read_suite(CHECKS, find_suite(name, Path.cwd()))
    asked = suite.drawn(int(seed or 0), selection).exercises
    if not memorised:
        return asked
    known = {exercise.id: exercise for exercise in suite.drawn(selection=selection).exercises}

    def by_heart(exercise: Exercise) -> Exercise:
        turns = zip(exercise.turns, known[exercise.id].turns, strict=True)
        learned = tuple(msgspec.structs.replace(turn, answer=own.answer) for turn, own in turns)
        return msgspec.structs.replace(exercise, turns=learned)

    return tuple(by_heart(exercise) for exercise in asked)


if __name__ == "__main__":
    raise SystemExit(main())
