"""``kettlefield calibrate``: the stopwatch's own error on this machine."""

import argparse
from typing import TYPE_CHECKING

import msgspec

from kettlefield.cli.commands import COMMANDS
from kettlefield.cli.console import make_console, make_table, print_json, print_note, print_table, safe
from kettlefield.cli.exits import ExitCode
from kettlefield.core.errors import InputError
from kettlefield.core.units import format_bytes
from kettlefield.measure.calibration import calibrate, store_calibration
from kettlefield.rig.survey import own_fingerprint

if TYPE_CHECKING:
    from kettlefield.measure.calibration import Calibration


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
        found = calibrate(args.seconds, lambda words: status.update(f"calibrating with {words}"), real=args.real)
    fingerprint = own_fingerprint()
    store_calibration(fingerprint, found)
    if args.json:
        print_json({"fingerprint": fingerprint, **msgspec.to_builtins(found)})
    else:
        _print(found, fingerprint)
    return ExitCode.DONE


def _print(found: "Calibration", fingerprint: str) -> None:

    console = make_console()
    heads = (">bias, ms", ">first token p50, ms", ">p99", ">gap p50, ms", ">p99", ">of one core", ">memory")
    table = make_table("server", ">streams", ">events", *heads)
    served = [("on a beat", row) for row in found.streams] + [("little model", row) for row in found.real]
    for name, row in served:
        errors = (row.bias_s, row.first_p50_s, row.first_p99_s, row.itl_p50_s, row.itl_p99_s)
        table.add_row(
            name,
            str(row.streams),
            f"{row.events:,}",
            *(f"{1000 * error:.2f}" for error in errors),
            f"{row.cpu_share:.0%}",
            format_bytes(row.resident_bytes),
        )
    print_table(console, table)
    console.print(
        safe(
            f"memory sampler at {found.sampler_hz:g} Hz: {found.sampler_share:.1%} of one core, "
            f"{found.sampler_missed} of {found.sampler_looks + found.sampler_missed} looks missed"
        )
    )
    if found.disturbed is not None:
        console.print(safe(f"! {found.disturbed} meanwhile: calibrate again when the machine is quiet", "yellow"))
    console.print(safe(f"floor {1000 * found.floor_s:.2f} ms, kept for rig {fingerprint}"))
    print_note(
        console,
        "error: stamped later than the event was sent, the kernel's way included; gap: size of the error between\n"
        "two events. floor: 99 of 100 events of one stream; no duration below it is printed as a figure.",
    )
