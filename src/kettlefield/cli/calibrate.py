"""``kettlefield calibrate``: the stopwatch's own error on this machine."""

import argparse
from typing import TYPE_CHECKING

from kettlefield.cli.commands import COMMANDS, ExitCode
from kettlefield.core.errors import InputError
from kettlefield.measure.calibration import calibrate, store_calibration
from kettlefield.rig.survey import own_fingerprint
from kettlefield.views.rig_view import calibration_view
from kettlefield.views.terminal import make_console, show

if TYPE_CHECKING:
    pass


def add_parser(commands: "argparse._SubParsersAction[argparse.ArgumentParser]") -> None:
    """Add this command."""
    parser = commands.add_parser(
        "calibrate",
        help=COMMANDS["calibrate"],
        description="Run the whole measuring path against a server that tells the true moment of every event,\n"
        "and keep the error found: campaigns on this machine carry it, and print nothing below it.",
        epilog="examples:\n  kettlefield calibrate\n  kettlefield calibrate --real\n"
        "  kettlefield calibrate --seconds 10 --json",
        formatter_class=argparse.RawDescriptionHelpFormatter,
    )
    parser.add_argument("--seconds", type=float, default=4.0, help="for each number of streams (default 4)")
    parser.add_argument(
        "--real", action="store_true", help="against the little model too: a server that really works, unevenly"
    )
    parser.add_argument("--json", action="store_true", help="print one JSON document")
    parser.set_defaults(run=run)


def run(args: argparse.Namespace) -> int:
    """Calibrate, store, print."""
    if not 0.2 <= args.seconds <= 600:
        raise InputError(f"is {args.seconds:g}", "--seconds", "Write 0.2 to 600.")
    console = make_console(stderr=True)
    with console.status("calibrating") as status:
        calibration = calibrate(args.seconds, lambda words: status.update(f"calibrating with {words}"), real=args.real)
    fingerprint = own_fingerprint()
    store_calibration(fingerprint, calibration)
    show(calibration_view(calibration, fingerprint), as_json=args.json)
    return ExitCode.DONE
