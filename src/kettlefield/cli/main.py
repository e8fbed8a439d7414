"""The program: arguments to a command's handler, errors to one line and an exit code."""

import argparse
import json
import logging
import os
import sys
from collections.abc import Sequence

from kettlefield import __version__
from kettlefield.cli import (
    calibrate,
    contrast,
    decide,
    demo,
    draft,
    export,
    qualify,
    report,
    rig,
    suite,
    trials,
    vet,
    weigh,
)
from kettlefield.cli.exits import ExitCode, exit_code_for
from kettlefield.core.errors import KettlefieldError
from kettlefield.core.plaintext import visible

logger = logging.getLogger(__name__)

COMMANDS = (rig, weigh, draft, suite, vet, calibrate, qualify, contrast, trials, decide, report, export, demo)
_EPILOG = """\
the order of work:
  1. kettlefield rig                    what this machine is, and what is missing
  2. kettlefield weigh FILE...          what the weights are, what they need, what fits
  3. kettlefield draft FILE... -o plan.toml   then set its criteria - before any result is seen
  4. kettlefield suite list berthdesk   what will be asked, and what that can show
     kettlefield vet berthdesk          prove that the suite's checks can be trusted
     kettlefield calibrate              the stopwatch's own error on this machine
  5. kettlefield qualify plan.toml      run the campaign; the same command resumes it
  6. kettlefield contrast record.db     candidates side by side
  7. kettlefield trials record.db       what each model wrote, and why it failed
  8. kettlefield decide record.db       criteria one by one, and the verdict; --by NAME signs it
     kettlefield report record.db -o FOLDER   one page to read and to keep
     kettlefield export record.db -o FOLDER   tables, CI results, bill of materials

`kettlefield demo` runs all of it on made-up models. Exit codes: 0 done or approved, 1 rejected or a faulty
suite, 2 bad input, 3 something could not be measured, 4 undecided, 130 interrupted.
"""


def build_parser() -> argparse.ArgumentParser:
    """The parser with every command's own."""
    parser = argparse.ArgumentParser(
        prog="kettlefield",
        description="Qualify open-weight code models on your own hardware before approving one.",
        epilog=_EPILOG,
        formatter_class=argparse.RawDescriptionHelpFormatter,
    )
    parser.add_argument("--version", action="version", version=f"kettlefield {__version__}")
    parser.add_argument("-v", "--verbose", action="count", default=0, help="say more (-vv: everything)")
    commands = parser.add_subparsers(metavar="COMMAND", dest="command")
    for module in COMMANDS:
        module.add_parser(commands)
    return parser


def main(argv: Sequence[str] | None = None) -> int:
    """Run one command.

    Returns
    -------
    int
        An ``ExitCode``.
    """
    parser = build_parser()
    args = parser.parse_args(argv)
    if args.command is None:
        parser.print_help()
        return ExitCode.DONE
    level = (logging.WARNING, logging.INFO, logging.DEBUG)[min(args.verbose, 2)]
    logging.basicConfig(level=level, format="%(name)s: %(message)s")
    try:
        return int(args.run(args))
    except KettlefieldError as err:
        logger.debug("stopped", exc_info=True)
        return _report(err, as_json=getattr(args, "json", False))
    except KeyboardInterrupt:
        print(
            "kettlefield: interrupted; every finished trial is kept, the same command resumes",
            file=sys.stderr,
        )
        return ExitCode.INTERRUPTED


def _report(err: KettlefieldError, *, as_json: bool) -> ExitCode:
    if as_json:
        print(json.dumps({"error": {"what": err.what, "where": err.where, "hint": err.hint}}))
    print(f"kettlefield: {visible(str(err), keep_lines=False)}", file=sys.stderr)
    return exit_code_for(err)


def run() -> None:
    """The console script."""
    try:
        code = main()
        sys.stdout.flush()
    except BrokenPipeError:
        # whoever read us has seen enough (`| head`); closing stdout again must not complain either
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        code = 0
    sys.exit(code)
