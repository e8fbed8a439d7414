"""``kettlefield rig``: what this machine is, and what is missing."""

import argparse
import time
from pathlib import Path
from typing import TYPE_CHECKING, Any

import msgspec

from kettlefield.cli.commands import COMMANDS
from kettlefield.cli.console import make_console, make_table, print_json, print_table, safe
from kettlefield.cli.exits import ExitCode
from kettlefield.core.errors import RigError
from kettlefield.core.units import format_bytes, format_duration
from kettlefield.measure.calibration import stored_calibration
from kettlefield.rig.survey import disk_read_rate, memory_bandwidth, survey_rig
from kettlefield.sandbox.limits import can_bound_memory
from kettlefield.sandbox.runner import available_isolation

if TYPE_CHECKING:
    from kettlefield.rig.survey import RigFacts


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
    if args.json:
        document = msgspec.to_builtins(facts)
        print_json({**document, "memory_bandwidth_bytes_s": bandwidth, "disk_read_bytes_s": disk, "isolation": shut_in})
    else:
        _print(facts, bandwidth, disk, shut_in)
    return ExitCode.DONE


def _print(facts: "RigFacts", bandwidth: float, disk: float | None, isolation: dict[str, Any]) -> None:

    host = facts.host
    rows = [
        ("processor", f"{host.cpu}, {host.cores} cores, {host.threads} threads"),
        ("memory", f"{format_bytes(host.memory_bytes)}, {format_bytes(facts.available_bytes)} available now"),
        ("memory bandwidth", f"{format_bytes(bandwidth)}/s, measured: bytes read and written by a copy on all cores"),
        ("system", f"{host.system}, kernel {host.kernel}"),
    ]
    if disk is not None:
        rows.append(("disk", f"{format_bytes(disk)}/s read, measured"))
    for card in facts.accelerators:
        used = f"{format_bytes(card.used_bytes)} of {format_bytes(card.memory_bytes)} in use"
        rows.append(("accelerator", f"{card.name}, {used}, driver {card.driver}"))
    if not facts.accelerators:
        rows.append(("accelerator", "none found"))
    rows += [("toolchain", f"{language} {version}") for language, version in facts.toolchains.items()]
    lacks = f", lacks: {'; '.join(isolation['lacks'])}" if isolation["lacks"] else ""
    bounded = "by a control group and by looking" if isolation["memory_group"] else "by looking alone"
    words = f"{isolation['name']}{lacks}; memory of a run bounded {bounded}"
    rows.append(("isolation", words if isolation["name"] else "none"))
    rows.append(("energy counters", ", ".join(facts.energy_counters) or "not available here"))
    rows.append(("stopwatch", _stopwatch(facts.fingerprint)))
    rows.append(("fingerprint", facts.fingerprint))
    console = make_console()
    table = make_table("what", "found")
    for name, text in rows:
        table.add_row(name, safe(text))
    print_table(console, table)
    for language, remedy in facts.missing.items():
        console.print(safe(f"missing: {language}; install it: {remedy}", "yellow"))
    if isolation["fault"]:
        console.print(safe(f"missing: {isolation['fault']}", "yellow"))


def _stopwatch(fingerprint: str) -> str:
    """When this rig was calibrated, and to what floor."""
    known = stored_calibration(fingerprint)
    if known is None:
        return "not calibrated: run `kettlefield calibrate`"
    return f"calibrated {format_duration(time.time() - known.at)} ago, floor {1000 * known.floor_s:.2f} ms"
