"""``kettlefield demo``: a full example, on made-up models or on a real little one."""

import argparse
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any

import msgspec

from kettlefield.cli.commands import COMMANDS
from kettlefield.cli.demo_fleet import run_fleet_demo
from kettlefield.cli.draft import write_draft
from kettlefield.cli.qualify import run_campaign
from kettlefield.cli.report import show_report
from kettlefield.cli.weigh import show_weighed
from kettlefield.core.errors import InputError
from kettlefield.core.units import format_bytes
from kettlefield.demo.little.little_folder import BUDGET_BYTES, OVERHEAD_BYTES, SERVER, prepare_real_demo
from kettlefield.demo.simulated_folder import DEMO_BUDGET_BYTES, TICKETS_NAME, TICKETS_RECORD, prepare_demo
from kettlefield.plan.criteria import decide
from kettlefield.record.store import Record
from kettlefield.results.comparison import compare
from kettlefield.rig.simulated_card import read_card
from kettlefield.rig.survey import own_bandwidth
from kettlefield.views.criteria_view import verdicts_table
from kettlefield.views.overview_view import overview_view
from kettlefield.views.table import present
from kettlefield.views.terminal import make_console, print_parts, safe, show
from kettlefield.weights.fit import Settings

if TYPE_CHECKING:
    from kettlefield.weights.fit import Settings

SIMULATED_FOLDER, REAL_FOLDER, FLEET_FOLDER = (Path(f"saltmarsh-{name}") for name in ("demo", "real", "fleet"))


def add_parser(commands: "argparse._SubParsersAction[argparse.ArgumentParser]") -> None:
    """Add this command."""
    parser = commands.add_parser(
        "demo",
        help=COMMANDS["demo"],
        description="Write a plan and weights into a folder, run the whole campaign and show what came of it: on two\n"
        "made-up models at four levels each, a real little one at six, or on three made-up rigs side by side.",
        epilog="without --real, servers, accelerator and models are simulated; processes, HTTP and grading are real.\n"
        "with --real nothing is simulated: a very small model, trained for this and shipped with its weights, is\n"
        "quantised, loaded and run on this machine's processor.\n"
        "with --fleet database, scheduler and workers are real, and end with it; the record stays.\n\n"
        "examples:\n  kettlefield demo\n  kettlefield demo --real\n  kettlefield demo --fleet\n"
        "  kettlefield demo somewhere/else",
        formatter_class=argparse.RawDescriptionHelpFormatter,
    )
    parser.add_argument(
        "folder",
        nargs="?",
        type=Path,
        help=f"default: {SIMULATED_FOLDER}; {REAL_FOLDER} with --real, {FLEET_FOLDER} with --fleet",
    )
    parser.add_argument("--real", action="store_true", help="a real little model in place of simulated ones")
    parser.add_argument(
        "--fleet", action="store_true", help="three made-up rigs: through Dask's scheduler into a PostgreSQL database"
    )
    parser.set_defaults(run=run)


class _Demo(msgspec.Struct, frozen=True, kw_only=True):
    """What the two demos differ in."""

    plan: Path
    about: str
    budget_bytes: int
    settings: "Settings"  # of weighing
    drafting: dict[str, Any]
    report: bool  # whether the report page is written too
    tickets: Path | None  # a second plan, of work in repositories
    further: tuple[tuple[str, str], ...]  # commands worth a look on it, and what they show
    remark: str  # what to know when reading its figures; may be empty


def run(args: argparse.Namespace) -> int:
    """Prepare the folder, run the campaign, show what came of it."""
    if args.fleet and args.real:
        raise InputError("does not go with --real", "--fleet", "Its rigs are made up; --real has one, this machine.")
    if args.fleet:
        return run_fleet_demo(args.folder or FLEET_FOLDER)
    folder: Path = args.folder or (REAL_FOLDER if args.real else SIMULATED_FOLDER)
    prepare: Callable[[Path], _Demo] = _real if args.real else _simulated
    demo = prepare(folder)
    make_console(stderr=True).print(safe(f"{demo.plan}: {demo.about}"))
    weights = sorted((folder / "weights").glob("*.gguf"))
    budget = demo.budget_bytes
    show_weighed(weights, demo.settings, f"{format_bytes(budget)}, as the plan has it", allowed=[])
    drafted, record = folder / "drafted.toml", folder / "record.db"
    if not drafted.exists():
        write_draft(weights, drafted, budget=budget, source="as the demo's plan has it", **demo.drafting)
    code = run_campaign(demo.plan, None)
    console = make_console()
    show(overview_view(Record.open(record)), as_json=False)
    print_parts(console, present(verdicts_table(decide(Record.open(record)))))
    if demo.report:
        show_report(record, folder / "report", as_markdown=False)
    if demo.tickets is not None:
        code = max(code, run_campaign(demo.tickets, None))
        solved = sum(row.solved for row in compare(Record.open(folder / TICKETS_RECORD)).rows)
        console.print(safe(f"\n{demo.tickets.name}: {solved} of 3 tickets in small repositories solved, through tools"))
    console.print(safe(_look_next(demo, record)))
    return code


def _simulated(folder: Path) -> _Demo:

    plan = prepare_demo(folder)
    card = read_card(folder / "card")
    return _Demo(
        plan=plan,
        about="two made-up models, four levels each; everything here is simulated but the grading",
        budget_bytes=DEMO_BUDGET_BYTES,
        settings=Settings(
            contexts=(2048,), parallel=(6,), budget_bytes=DEMO_BUDGET_BYTES, bandwidth_bytes_s=card.bandwidth_bytes_s
        ),
        drafting={"command": None, "suite": "berthdesk", "accelerator": "simulated:card"},
        report=False,
        tickets=folder / TICKETS_NAME,
        further=(
            ("compare {record} --part speed", "context depth, concurrency, capacity, prompt cache, loads"),
            ("compare {tickets} --part workspaces", "the tickets, with the tools that were called"),
        ),
        remark="",
    )


def _real(folder: Path) -> _Demo:

    plan = prepare_real_demo(folder)
    return _Demo(
        plan=plan,
        about="a real little model at six levels; nothing here is simulated",
        budget_bytes=BUDGET_BYTES,
        settings=Settings(
            contexts=(512,),
            kv_bits=(16, 8),
            parallel=(6,),
            budget_bytes=BUDGET_BYTES,
            bandwidth_bytes_s=own_bandwidth(),
            overhead_bytes=OVERHEAD_BYTES,
        ),
        drafting={
            "command": SERVER.split(),
            "suite": "firstlight",
            "accelerator": "none",
            "overhead": OVERHEAD_BYTES,
        },
        report=True,
        tickets=None,
        further=(
            ("compare {record} --part replies", "where each level's replies differ from the reference's"),
            ("compare {record} --part memory", "how much less each level takes, measured and by the files"),
        ),
        remark="On a model this small fewer bits can be slower: unpacking costs more than reading less memory saves.",
    )


def _look_next(demo: _Demo, record: Path) -> str:
    commands = (
        ("decide {record}", "every criterion of every candidate, with conditions"),
        *demo.further,
        ("trials {record} --open 1", "one trial whole: prompt, reply, files, checks"),
        ("report {record} -o report", "all of it as a page"),
    )
    places = {"plan": demo.plan, "record": record, "tickets": record.with_name(TICKETS_RECORD)}
    lines = [f"  kettlefield {words.format(**places)}  {shows}" for words, shows in commands]
    return "\n".join([*([f"\n{demo.remark}"] if demo.remark else []), "\nLook next at:", *lines])
