"""``kettlefield vet``: prove that a suite's checks can be trusted."""

import argparse
import os
from pathlib import Path

from kettlefield.cli.commands import COMMANDS, ExitCode
from kettlefield.core.errors import InputError
from kettlefield.grading.checks.all_checks import CHECKS
from kettlefield.grading.grader import Grader
from kettlefield.grading.suite_vetting import vet_suite
from kettlefield.sandbox.isolation import Isolation, NoIsolation
from kettlefield.sandbox.runner import available_isolation
from kettlefield.suite.loader import find_suite, read_suite, write_lock
from kettlefield.suite.variants import BASE_SEED
from kettlefield.views.suite_view import vetting_view
from kettlefield.views.terminal import make_console, show

SEEDS = 20  # with which exercises that vary are vetted


def add_parser(commands: "argparse._SubParsersAction[argparse.ArgumentParser]") -> None:
    """Add this command."""
    parser = commands.add_parser(
        "vet",
        help=COMMANDS["vet"],
        description="Run each exercise's honest answers, which must pass, and its decoys, which must fail as told;\n"
        "every demand wants a claim with a decoy. A sound suite can be locked: records hold its digest.",
        epilog="exit code: 1 when anything is wrong.\n\n"
        "examples:\n  kettlefield vet berthdesk\n  kettlefield vet my-suite --mutants --lock",
        formatter_class=argparse.RawDescriptionHelpFormatter,
    )
    parser.add_argument("suite", help="a built-in suite's name, or a folder")
    parser.add_argument("--lock", action="store_true", help="when all is well, write the suite's lock as it is now")
    parser.add_argument(
        "--seeds",
        type=int,
        default=SEEDS,
        metavar="N",
        help=f"seeds for exercises that vary (default {SEEDS}); compiled and word-only ones take each fifth",
    )
    parser.add_argument(
        "--mutants", action="store_true", help="also try mechanical mutants of each answer: the checks must catch most"
    )
    parser.add_argument(
        "--unsafe-no-isolation",
        action="store_true",
        help="run the suite's code without isolation, because you trust it",
    )
    parser.add_argument("--json", action="store_true", help="print one JSON document")
    parser.set_defaults(run=run)


def run(args: argparse.Namespace) -> int:
    """Vet and print what was found."""
    if args.seeds < 1:
        raise InputError(f"is {args.seeds}", "--seeds", "Write 1 or more.")
    folder = find_suite(args.suite, Path.cwd())
    files = read_suite(CHECKS, folder, check_lock=not args.lock)
    suite = files.drawn()
    isolation: Isolation = NoIsolation() if args.unsafe_no_isolation else available_isolation()
    console = make_console(stderr=True)
    with console.status(f"vetting {len(suite.exercises)} exercises") as status:
        vetted_all = vet_suite(
            lambda seed: suite if seed == BASE_SEED else files.drawn(seed),
            Grader(isolation),
            seeds=args.seeds,
            workers=(os.cpu_count() or 1) + 1,  # one of them is likely to wait for a browser or a decoy without end
            mutants=args.mutants,
            on_done=lambda done, of, last: status.update(f"vetted {done} of {of}, last {last}"),
        )
    ok = not any(vetted.faults for vetted in vetted_all)
    if args.lock and ok:
        write_lock(suite.folder)
    show(vetting_view(suite, vetted_all, isolation=isolation.name), as_json=args.json)
    return ExitCode.DONE if ok else ExitCode.REJECTED
