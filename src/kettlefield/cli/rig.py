"""``kettlefield rig``: what this machine is, and what is missing."""

import argparse
import time
from pathlib import Path
from typing import TYPE_CHECKING, Any

from kettlefield.cli.commands import COMMANDS, ExitCode
from kettlefield.core.errors import RigError
from kettlefield.core.units import format_duration
from kettlefield.measure.calibration import stored_calibration
from kettlefield.rig.survey import disk_read_rate, memory_bandwidth, survey_rig
from kettlefield.sandbox.limits import can_bound_memory
from kettlefield.sandbox.runner import available_isolation
from kettlefield.views.rig_view import rig_view
from kettlefield.views.terminal import show

if TYPE_CHECKING:
    pass


def add_parser(commands: "argparse._SubParsersAction[argparse.ArgumentParser]") -> None:
    """Add this command."""
    parser = commands.add_parser(
        "rig",
        help=COMMANDS["rig"],
        description="Show the machine that models would be qualified on: processor, memory and its bandwidth,\n"
        "accelerators, toolchains, isolation, energy counters - and the lines that install what is missing.",
        epilog="examples:\n  kettlefield rig\n  kettlefield rig --disk /models\n  kettlefield rig --json",
        formatter_class=argparse.RawDescriptionHelpFormatter,
    )
    parser.add_argument("--disk", type=Path, metavar="FOLDER", help="measure how fast this folder's disk is read")
    parser.add_argument("--again", action="store_true", help="measure the memory bandwidth again")
    parser.add_argument("--json", action="store_true", help="print one JSON document")
    parser.set_defaults(run=run)


def run(args: argparse.Namespace) -> int:
    """Survey and print."""
    facts = survey_rig()
    bandwidth = memory_bandwidth(facts.fingerprint, fresh=args.again)
    disk = disk_read_rate(args.disk) if args.disk is not None else None
    try:
        isolation = available_isolation()
        shut_in: dict[str, Any] = {
            "name": isolation.name,
            "lacks": list(isolation.lacks),
            "memory_group": can_bound_memory(),
            "fault": None,
        }
    except RigError as err:
        shut_in = {"name": None, "lacks": [], "memory_group": False, "fault": str(err)}
    view = rig_view(facts, bandwidth=bandwidth, disk=disk, isolation=shut_in, stopwatch=_stopwatch(facts.fingerprint))
    show(view, as_json=args.json)
    return ExitCode.DONE


def _stopwatch(fingerprint: str) -> str:
    """When this rig was calibrated, and to what floor."""
    known = stored_calibration(fingerprint)
    if known is None:
        return "not calibrated: run `kettlefield calibrate`"
    return f"calibrated {format_duration(time.time() - known.at)} ago, floor {1000 * known.floor_s:.2f} ms"
