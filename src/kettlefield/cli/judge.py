"""``kettlefield judge``: a second model marks replies; how far it can be trusted is measured first."""

import argparse
import asyncio
import sys
from pathlib import Path

from rich.progress import Progress

from kettlefield.campaign.judging import judge
from kettlefield.cli.commands import COMMANDS, ExitCode
from kettlefield.plan.plan import read_plan
from kettlefield.record.store import Record
from kettlefield.views.marks_view import marks_view
from kettlefield.views.terminal import make_console, show


def add_parser(commands: "argparse._SubParsersAction[argparse.ArgumentParser]") -> None:
    """Add this command."""
    parser = commands.add_parser(
        "judge",
        help=COMMANDS["judge"],
        description="Put a campaign's replies to the plan's [judge], blind, several times, pairs in both orders.\n"
        "Shown first are its position and length bias and how it agrees with checks and people; then its marks.",
        epilog="examples:\n  kettlefield judge plan.toml\n  kettlefield compare record.db --part marks",
        formatter_class=argparse.RawDescriptionHelpFormatter,
    )
    parser.add_argument("plan", type=Path)
    parser.add_argument("--json", action="store_true", help="print what was marked as one JSON document")
    parser.set_defaults(run=run)


def run(args: argparse.Namespace) -> int:
    """Ask what was not asked yet, then show what came of it."""
    plan = read_plan(args.plan, keep_all=True)  # what was left out or kept makes no difference here
    record = Record.open(plan.record)
    faults = 0
    with record.lock(), Progress(console=make_console(stderr=True), transient=True) as progress:
        task = progress.add_task("questions to the judge", total=None)

        def on_done(done: int, total: int, fault: str) -> None:
            nonlocal faults
            faults += bool(fault)
            progress.update(task, completed=done, total=total)

        asked = asyncio.run(judge(plan, record, on_done))
    record.close()
    print(f"kettlefield: {asked} questions asked, {faults} without an answer", file=sys.stderr)
    show(marks_view(Record.open(plan.record)), as_json=args.json)
    return ExitCode.NOT_MEASURED if asked and faults == asked else ExitCode.DONE
