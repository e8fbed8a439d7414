"""``kettlefield suite``: begin a suite of one's own, add to it, look at one and at what it can show."""

import argparse
from collections import Counter
from pathlib import Path
from typing import TYPE_CHECKING, Any

from kettlefield.cli.commands import COMMANDS
from kettlefield.cli.console import make_console, make_table, print_json, print_note, print_table, safe
from kettlefield.cli.exits import ExitCode
from kettlefield.core.errors import InputError
from kettlefield.core.statistics.power import effective_pairs, smallest_drop
from kettlefield.suite.loader import find_suite, load_suite
from kettlefield.suite.skeleton import TO_WRITE, add_exercise, new_suite

if TYPE_CHECKING:
    from kettlefield.suite.format import Suite

DISCORDANT = 0.12  # share of exercises that one level solves and the other does not, as neighbouring levels show it


def add_parser(commands: "argparse._SubParsersAction[argparse.ArgumentParser]") -> None:
    """Add this command with its three parts."""
    parser = commands.add_parser(
        "suite",
        help=COMMANDS["suite"],
        description="Begin a suite of your own, add exercises to it, and see what a suite holds and can show.\n"
        "Private suites live in a folder of your own; a plan names it as its suite.",
        epilog="examples:\n  kettlefield suite new harbour-tasks\n"
        "  kettlefield suite add repair tide-clock --in harbour-tasks\n  kettlefield suite list berthdesk --power",
        formatter_class=argparse.RawDescriptionHelpFormatter,
    )
    parts = parser.add_subparsers(metavar="PART", dest="part", required=True)
    new = parts.add_parser("new", help="a folder with one worked exercise")
    new.add_argument("name", type=Path, help="the folder to be made")
    new.set_defaults(run=run_new)
    add = parts.add_parser("add", help="the skeleton of an exercise")
    add.add_argument("kind", help="write, steps, repair, extend, continue, infill, data, speed, explain or files")
    add.add_argument("name", help="the exercise's id: small letters, digits and hyphens")
    add.add_argument("--in", dest="suite", type=Path, default=Path(), help="the suite's folder (default: here)")
    add.add_argument("--language", default="python", help="of the answer (default: python)")
    add.set_defaults(run=run_add)
    listing = parts.add_parser("list", help="what a suite holds, and what it can show")
    listing.add_argument("suite", nargs="?", default="berthdesk", help="a built-in suite's name, or a folder")
    listing.add_argument("--power", action="store_true", help="the smallest drop between levels that it would notice")
    listing.add_argument("--samples", type=int, default=1, help="for --power: samples of each exercise (default 1)")
    listing.add_argument(
        "--discordant",
        type=float,
        default=DISCORDANT,
        help=f"for --power: share of exercises that just one of two levels solves (default {DISCORDANT})",
    )
    listing.add_argument("--json", action="store_true", help="print one JSON document")
    listing.set_defaults(run=run_list)


def run_new(args: argparse.Namespace) -> int:
    """Make a suite."""
    exercise = new_suite(args.name)
    print(f"made {args.name} with one worked exercise, {exercise.name}; look at its files, then:")
    print(f"  kettlefield suite add write my-first --in {args.name}")
    print(f"  kettlefield vet {args.name} --lock")
    return ExitCode.DONE


def run_add(args: argparse.Namespace) -> int:
    """Add a skeleton."""
    folder = add_exercise(args.suite, args.kind, args.name, args.language)
    print(f'made {folder}; write what is marked "{TO_WRITE}", then `kettlefield vet {args.suite}`')
    return ExitCode.DONE


def run_list(args: argparse.Namespace) -> int:
    """Print what a suite holds."""
    if args.samples < 1 or not 0 < args.discordant <= 1:
        raise InputError(
            f"--samples is {args.samples} and --discordant {args.discordant:g}",
            "--power",
            "Write samples of 1 or more, and a share above 0, up to 1.",
        )
    suite = load_suite(find_suite(args.suite, Path.cwd()))
    power = _power(suite, args.samples, args.discordant) if args.power else None
    if args.json:
        exercises = [
            {
                "id": exercise.id,
                "kind": exercise.spec.kind,
                "language": exercise.spec.language,
                "difficulty": exercise.spec.difficulty,
                "title": exercise.spec.title,
                "topics": list(exercise.spec.topics),
                "tests": exercise.spec.tests,
                "short": exercise.spec.short,
                "varies": bool(exercise.spec.vary),
            }
            for exercise in suite.exercises
        ]
        print_json({"suite": suite.name, "digest": suite.digest, "exercises": exercises, "power": power})
        return ExitCode.DONE
    _print(make_console(), suite)
    if power is not None:
        _print_power(make_console(), power)
    return ExitCode.DONE


def _power(suite: "Suite", samples: int, discordant: float) -> list[dict[str, Any]]:

    sizes = {"all": len(suite.exercises), "short": sum(e.spec.short for e in suite.exercises)}
    return [
        {
            "selection": selection,
            "exercises": count,
            "samples": samples,
            "discordant": discordant,
            "smallest_drop": smallest_drop(effective_pairs(count, samples), discordant=discordant),
        }
        for selection, count in sizes.items()
        if count
    ]


def _print(console: Any, suite: "Suite") -> None:

    table = make_table("exercise", "kind", "language", ">difficulty", "short", "varies", "title")
    for exercise in sorted(suite.exercises, key=lambda e: (e.spec.kind, e.spec.language, e.id)):
        spec = exercise.spec
        marks = ["yes" if mark else "" for mark in (spec.short, spec.vary)]
        table.add_row(exercise.id, spec.kind, spec.language, str(spec.difficulty), *marks, safe(spec.title))
    print_table(console, table)
    for name, values in (
        ("kinds", Counter(e.spec.kind for e in suite.exercises)),
        ("languages", Counter(e.spec.language for e in suite.exercises)),
    ):
        console.print(safe(f"{name}: " + ", ".join(f"{key} {count}" for key, count in values.most_common())))
    short = sum(exercise.spec.short for exercise in suite.exercises)
    console.print(safe(f"{suite.name}: {len(suite.exercises)} exercises, {short} in the short selection"))
    console.print(safe(f"digest {suite.digest}"), style="dim")


def _print_power(console: Any, power: list[dict[str, Any]]) -> None:

    table = make_table("selection", ">exercises", ">samples", ">smallest drop noticed")
    for row in power:
        drop = row["smallest_drop"]
        words = f"{drop:.2f}" if drop is not None else f"more than {row['discordant']:g}"
        table.add_row(row["selection"], str(row["exercises"]), str(row["samples"]), words)
    print_table(console, table)
    print_note(
        console,
        f"a drop in pass rate from one level to another, noticed in 80 of 100 campaigns at one-sided 95 % when "
        f"{power[0]['discordant']:.0%} of the exercises are solved by just one of the two (Connor 1987; samples of one "
        "exercise counted as half correlated)",
    )
