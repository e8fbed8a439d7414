"""``kettlefield try``: a first look at weights files, with no plan and no criteria; nothing is decided."""

import argparse
import os
import sys
from pathlib import Path

from kettlefield.campaign.learning import known_overhead
from kettlefield.cli.commands import COMMANDS, ExitCode
from kettlefield.cli.qualify import run_campaign
from kettlefield.cli.weigh import find_budget, find_overhead, split_command
from kettlefield.core.errors import InputError
from kettlefield.plan.drafting import LOOK_RECORD, Draft, Serving, draft_plan, model_name
from kettlefield.record.store import Record
from kettlefield.suite.loader import find_suite
from kettlefield.views.first_look_view import first_look_view
from kettlefield.views.terminal import show
from kettlefield.weights.formats import read_facts

LOOK_PLAN, CAMPAIGN_PLAN = "look.toml", "plan.toml"
MOST_MINUTES = 24 * 60  # beyond a day it is no first look


def add_parser(commands: "argparse._SubParsersAction[argparse.ArgumentParser]") -> None:
    """Add this command."""
    parser = commands.add_parser(
        "try",
        help=COMMANDS["try"],
        description="Size weights files, start each one's server, time it, put the short selection to it: one table\n"
        "and what stands out. Needs no plan. It drafts one to edit, and decides nothing.",
        epilog="{weights} and {port} in the command are filled in; {context}, {level} and {concurrency} may be.\n\n"
        "examples:\n  kettlefield try models/*.gguf --server 'my-server --model {weights} --port {port}'\n"
        "  kettlefield try model.gguf --url http://127.0.0.1:8080 --minutes 2",
        formatter_class=argparse.RawDescriptionHelpFormatter,
    )
    parser.add_argument(
        "files", nargs="+", type=Path, metavar="WEIGHTS", help="GGUF, safetensors, an index, or a folder"
    )
    reached = parser.add_mutually_exclusive_group(required=True)
    reached.add_argument("--server", metavar="COMMAND", help="starts a server; {weights} and {port} are filled in")
    reached.add_argument("--url", help="of a running server that has loaded the one file")
    parser.add_argument("--served-model", metavar="NAME", help="the running server's name for the model")
    parser.add_argument("--key-from", metavar="VARIABLE", help="environment variable with the running server's key")
    parser.add_argument("-o", "--output", type=Path, default=Path("first-look"), metavar="FOLDER", help="first-look")
    parser.add_argument("--minutes", type=float, default=5.0, help="for each candidate, at most; default: 5")
    parser.add_argument("--suite", default="berthdesk", help="its short selection is asked once; default: berthdesk")
    parser.add_argument("--budget", metavar="SIZE", help="memory to fit into; default: the accelerator's or the host's")
    parser.add_argument(
        "--overhead", metavar="SIZE", help="what the server takes beside weights and cache; default: a rule of thumb"
    )
    parser.add_argument("--accelerator", default="auto", help='as [rig] accelerator writes it; default: "auto"')
    parser.add_argument(
        "--unsafe-no-isolation", action="store_true", help="run generated code without isolation; the record says so"
    )
    parser.add_argument("--json", action="store_true", help="print the table as one JSON document")
    parser.set_defaults(run=run)


def run(args: argparse.Namespace) -> int:
    """Draft, look, and show what is known, however far it came."""
    if not 0 < args.minutes <= MOST_MINUTES:
        raise InputError(f"is {args.minutes:g}", "--minutes", f"Give a number above 0, at most {MOST_MINUTES}.")
    serving = _serving(args)
    folder: Path = args.output
    budget, source = find_budget(args.budget)
    draft = _write_drafts(args, serving, budget, source)
    code = ExitCode.INTERRUPTED
    try:
        code = run_campaign(folder / LOOK_PLAN, None, unsafe=args.unsafe_no_isolation, within_s=60 * args.minutes)
    except KeyboardInterrupt:
        print("kettlefield: interrupted; what is known by now:", file=sys.stderr)
    record = folder / LOOK_RECORD
    if not record.exists() or Record.open(record).campaign() is None:
        print("kettlefield: nothing yet; the same command begins again", file=sys.stderr)
        return code
    plan = folder / CAMPAIGN_PLAN
    next_steps = (
        f"next: set the criteria at the end of {plan}, then run: kettlefield qualify {plan}",
        f"this look's own record is {record}; no result of it goes into that campaign",
    )
    show(first_look_view(Record.open(record), draft.left_out, budget, next_steps=next_steps), as_json=args.json)
    return code


def _serving(args: argparse.Namespace) -> Serving:
    """How the server is reached.

    Raises
    ------
    InputError
        The options do not go together, or the command does not say where the port goes.
    """
    if args.url is not None:
        if len(args.files) > 1:
            raise InputError(
                f"{len(args.files)} files, but one running server", "--url", "Name the file that it has loaded."
            )
        if not args.url.startswith(("http://", "https://")):
            raise InputError(f'is "{args.url}"', "--url", "Write it whole, such as http://127.0.0.1:8080.")
        return Serving(url=args.url, served_model=args.served_model, key_from=args.key_from)
    for option, value in (("--served-model", args.served_model), ("--key-from", args.key_from)):
        if value is not None:
            raise InputError("is for a running server", option, "Give --url in place of --server.")
    command = split_command(args.server) or []
    if not command:
        raise InputError("is empty", "--server", "Give the command that starts your server.")
    for field, why in (("{port}", "where it is to listen"), ("{weights}", "which file it is to load")):
        if not any(field in word for word in command):
            raise InputError(f"does not hold {field}", "--server", f"The server must be told {why}: add {field}.")
    return Serving(command=tuple(command))


def _write_drafts(args: argparse.Namespace, serving: Serving, budget: int, source: str) -> Draft:
    """The look's own plan and the one to edit, in the folder; those that are there already stay.

    Raises
    ------
    InputError
        Nothing fits, two files are one candidate, there is no such suite, or the folder holds another look.
    """
    folder: Path = args.output
    find_suite(args.suite, folder.resolve())  # a folder with a plan that cannot run would stand in the way of the next
    models = [read_facts(path) for path in args.files]
    known: dict[tuple[str, str], Path] = {}
    for facts in models:
        other = known.setdefault((model_name(facts), facts.level), facts.path)
        if other is not facts.path:
            what = f"{other} and {facts.path} are both {model_name(facts)}@{facts.level}"
            raise InputError(what, "WEIGHTS", "Name one of them.")

    def draft(look_s: float | None) -> Draft:
        return draft_plan(
            models,
            names=[os.path.relpath(facts.path, folder.resolve()) for facts in models],
            serving=serving,
            suite=args.suite,
            budget_bytes=budget,
            budget_source=source,
            accelerator=args.accelerator,
            overhead_bytes=find_overhead(args.overhead),
            # a look's plan is the same each time, so that running it again resumes it
            learned=known_overhead(serving.command) if serving.command and look_s is None else None,
            look_s=look_s,
        )

    look = draft(60 * args.minutes)
    try:
        folder.mkdir(parents=True, exist_ok=True)
        if (folder / LOOK_PLAN).exists() and (folder / LOOK_PLAN).read_text(encoding="utf-8") != look.text:
            raise InputError("holds another look", str(folder), "Name another folder with -o, or remove this one.")
        (folder / LOOK_PLAN).write_text(look.text, encoding="utf-8")
        if not (folder / CAMPAIGN_PLAN).exists():
            (folder / CAMPAIGN_PLAN).write_text(draft(None).text, encoding="utf-8")
    except OSError as err:
        raise InputError(f"cannot be written ({err.strerror})", str(folder), "Name another place with -o.") from err
    return look
