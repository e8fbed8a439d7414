"""``kettlefield suite``: begin a suite of one's own, add to it, look at one and at what it can show."""

import argparse
from pathlib import Path

from kettlefield.cli.commands import COMMANDS, ExitCode
from kettlefield.core.errors import InputError
from kettlefield.grading.checks.all_checks import CHECKS
from kettlefield.grading.from_repository import Source, exercise_from_repository
from kettlefield.sandbox.runner import Sandbox, available_isolation
from kettlefield.suite.loader import find_suite, load_suite
from kettlefield.suite.selection_power import DISCORDANT, suite_power
from kettlefield.suite.skeleton import TO_WRITE, add_exercise, new_suite
from kettlefield.views.suite_view import suite_view
from kettlefield.views.terminal import show

RATE = 30.0  # tokens a second, where nothing is known of the candidate


def add_parser(commands: "argparse._SubParsersAction[argparse.ArgumentParser]") -> None:
    """Add this command with its three parts."""
    parser = commands.add_parser(
        "suite",
        help=COMMANDS["suite"],
        description="Begin a suite of your own, add exercises to it, and see what a suite holds and can show.\n"
        "Private suites live in a folder of your own; a plan names it as its suite.",
        epilog="examples:\n  kettlefield suite new harbour-tasks\n"
        "  kettlefield suite add repair tide-clock --in harbour-tasks\n"
        "  kettlefield suite add workspace own-ticket --in harbour-tasks --from ~/code/desk --commit 4f1c\n"
        "  kettlefield suite list berthdesk --power",
        formatter_class=argparse.RawDescriptionHelpFormatter,
    )
    parts = parser.add_subparsers(metavar="PART", dest="part", required=True)
    new = parts.add_parser("new", help="a folder with one worked exercise")
    new.add_argument("name", type=Path, help="the folder to be made")
    new.set_defaults(run=run_new)
    add = parts.add_parser("add", help="the skeleton of an exercise")
    add.add_argument("kind", help="the kind, such as write, repair, refer or review; a wrong one is answered with all")
    add.add_argument("name", help="the exercise's id: small letters, digits and hyphens")
    add.add_argument("--in", dest="suite", type=Path, default=Path(), help="the suite's folder (default: here)")
    add.add_argument("--language", default="python", help="of the answer (default: python)")
    own = add.add_argument_group("of a commit in a repository of yours, for kind workspace")
    own.add_argument("--from", dest="repository", type=Path, metavar="REPO", help="the repository")
    own.add_argument("--commit", metavar="SHA", help="its change is the task, its tests are hidden")
    own.add_argument("--tests", metavar="COMMAND", help='runs the tests, such as "{python} -m unittest"')
    own.add_argument("--function", metavar="FILE:NAME", help="instead of the change: write this function's body again")
    add.set_defaults(run=run_add)
    listing = parts.add_parser("list", help="what a suite holds, and what it can show")
    listing.add_argument("suite", nargs="?", default="berthdesk", help="a built-in suite's name, or a folder")
    listing.add_argument(
        "--power", action="store_true", help="which drops between levels it shows, and how long that takes"
    )
    listing.add_argument("--samples", type=int, default=1, help="for --power: samples of each exercise (default 1)")
    listing.add_argument(
        "--discordant",
        type=float,
        default=DISCORDANT,
        help=f"for --power: share of exercises that just one of two levels solves (default {DISCORDANT})",
    )
    listing.add_argument(
        "--rate",
        type=float,
        default=RATE,
        metavar="TOKENS_PER_S",
        help=f"for --power: at which a candidate generates (default {RATE:g})",
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
    """Add a skeleton, or an exercise of one's own repository."""
    if args.repository is not None or args.commit or args.tests or args.function:
        return _add_own(args)
    folder = add_exercise(args.suite, args.kind, args.name, args.language)
    print(f'made {folder}; write what is marked "{TO_WRITE}", then `kettlefield vet {args.suite}`')
    return ExitCode.DONE


def _add_own(args: argparse.Namespace) -> int:
    if args.kind != "workspace" or args.repository is None or args.commit is None:
        hint = "Write `suite add workspace NAME --from REPO --commit SHA`."
        raise InputError("need kind workspace, --from and --commit", "--from, --commit, --tests, --function", hint)
    source = Source(repository=args.repository, commit=args.commit, tests=args.tests, function=args.function)
    made = exercise_from_repository(args.suite, args.name, source, Sandbox(available_isolation()))
    print(f"made {made.folder}: its tests fail before the change and pass after it, twice each; {made.decoys} decoys")
    if made.left_out:
        print(f"left out, since hidden or no text: {', '.join(made.left_out[:10])}")
    print(f'write what is marked "{TO_WRITE}", then `kettlefield vet {args.suite}`')
    return ExitCode.DONE


def run_list(args: argparse.Namespace) -> int:
    """Print what a suite holds."""
    if args.samples < 1 or not 0 < args.discordant <= 1 or not 0 < args.rate < float("inf"):
        raise InputError(
            f"--samples is {args.samples}, --discordant {args.discordant:g} and --rate {args.rate:g}",
            "--power",
            "Write samples of 1 or more, a share above 0, up to 1, and a rate above 0.",
        )
    suite = load_suite(CHECKS, find_suite(args.suite, Path.cwd()))
    settings = {"samples": args.samples, "tokens_per_s": args.rate, "discordant": args.discordant}
    power = suite_power(suite.exercises, **settings) if args.power else None
    show(suite_view(suite, power), as_json=args.json)
    return ExitCode.DONE
