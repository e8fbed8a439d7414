"""``kettlefield draft``: a plan from weights files, with the criteria left to a person."""

import argparse
import os
from pathlib import Path

from kettlefield.campaign.learning import known_overhead
from kettlefield.cli.commands import COMMANDS, ExitCode
from kettlefield.cli.suite import RATE
from kettlefield.cli.weigh import find_budget, find_overhead, split_command
from kettlefield.core.errors import InputError
from kettlefield.grading.checks.all_checks import CHECKS
from kettlefield.plan.drafting import Serving, draft_plan
from kettlefield.suite.loader import find_suite, load_suite
from kettlefield.suite.selection_power import suite_power
from kettlefield.views.suite_view import power_parts
from kettlefield.views.table import View
from kettlefield.views.terminal import make_console, safe, show
from kettlefield.weights.formats import read_facts


def add_parser(commands: "argparse._SubParsersAction[argparse.ArgumentParser]") -> None:
    """Add this command."""
    parser = commands.add_parser(
        "draft",
        help=COMMANDS["draft"],
        description="Write a commented plan: candidates from the files' headers, a context that fits, the reference\n"
        "level marked. Only the criteria are left to be set by a person. Never overwrites.",
        epilog="examples:\n  kettlefield draft models/*.gguf -o plan.toml\n"
        "  kettlefield draft models/*.gguf -o plan.toml --server 'my-server {weights} {port}' --budget '12 GiB'",
        formatter_class=argparse.RawDescriptionHelpFormatter,
    )
    parser.add_argument(
        "files", nargs="+", type=Path, metavar="WEIGHTS", help="GGUF, safetensors, an index, or a folder"
    )
    parser.add_argument("-o", "--output", type=Path, required=True, metavar="PLAN", help="the plan to write")
    parser.add_argument("--server", metavar="COMMAND", help="starts a server; {weights}, {port} ... are filled in")
    parser.add_argument("--suite", default="berthdesk")
    parser.add_argument("--budget", metavar="SIZE", help="memory to fit into; default: the accelerator's or the host's")
    parser.add_argument(
        "--overhead", metavar="SIZE", help="what the server takes beside weights and cache; default: a rule of thumb"
    )
    parser.add_argument("--accelerator", default="none", help='as [rig] accelerator writes it; default: "none"')
    parser.set_defaults(run=run)


def run(args: argparse.Namespace) -> int:
    """Draft and write."""
    budget, source = find_budget(args.budget)
    write_draft(
        args.files,
        args.output,
        command=split_command(args.server),
        suite=args.suite,
        budget=budget,
        source=source,
        accelerator=args.accelerator,
        overhead=find_overhead(args.overhead),
    )
    return ExitCode.DONE


def write_draft(
    files: list[Path],
    output: Path,
    *,
    command: list[str] | None,
    suite: str,
    budget: int,
    source: str,
    accelerator: str,
    overhead: int | None = None,
) -> None:
    """Draft a plan from weights files, write it where nothing is yet, and say what was left out."""
    if output.exists():
        raise InputError("already exists", str(output), "Name another file: a plan is never overwritten.")
    models = [read_facts(path) for path in files]
    draft = draft_plan(
        models,
        names=[os.path.relpath(facts.path, output.resolve().parent) for facts in models],
        serving=Serving(command=tuple(command or ())),
        suite=suite,
        budget_bytes=budget,
        budget_source=source,
        accelerator=accelerator,
        overhead_bytes=overhead,
        learned=known_overhead(command) if command else None,
    )
    try:
        with output.open("x", encoding="utf-8") as file:
            file.write(draft.text)
    except OSError as err:
        raise InputError(f"cannot be written ({err.strerror})", str(output), "Name another place.") from err
    console = make_console()
    exercises = load_suite(CHECKS, find_suite(suite, output.resolve().parent)).exercises
    power = suite_power(exercises, samples=1, tokens_per_s=RATE)
    show(View(title="", simulated=False, parts=power_parts(power), document={}), as_json=False)
    kept = len(models) - len(draft.left_out)
    console.print(safe(f"{output}: {kept} of {len(models)} files are candidates; set its criteria, then run qualify"))
    for line in draft.left_out:
        console.print(safe(f"left out: {line}", "yellow"))
