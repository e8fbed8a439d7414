"""``kettlefield demo``: a full example on made-up models."""

import argparse
from pathlib import Path

from kettlefield.cli.commands import COMMANDS


def add_parser(commands: "argparse._SubParsersAction[argparse.ArgumentParser]") -> None:
    """Add this command."""
    parser = commands.add_parser(
        "demo",
        help=COMMANDS["demo"],
        description="Write a plan and two made-up models into a folder and run the whole campaign on them:\n"
        "simulated servers and a simulated accelerator, real processes, real HTTP, real grading in isolation.",
        epilog="examples:\n  kettlefield demo\n  kettlefield demo somewhere/else",
        formatter_class=argparse.RawDescriptionHelpFormatter,
    )
    parser.add_argument("folder", nargs="?", type=Path, default=Path("saltmarsh-demo"), help="default: saltmarsh-demo")
    parser.set_defaults(run=run)


def run(args: argparse.Namespace) -> int:
    """Prepare the folder, run the campaign, show what came of it."""
    from kettlefield.analysis.weighing import Settings  # noqa: PLC0415
    from kettlefield.cli.console import make_console, safe  # noqa: PLC0415
    from kettlefield.cli.contrast_table import show_contrast  # noqa: PLC0415
    from kettlefield.cli.decide import show_verdicts  # noqa: PLC0415
    from kettlefield.cli.draft import write_draft  # noqa: PLC0415
    from kettlefield.cli.qualify import run_campaign  # noqa: PLC0415
    from kettlefield.cli.weigh import show_weighed  # noqa: PLC0415
    from kettlefield.core.units import format_bytes  # noqa: PLC0415
    from kettlefield.rig.simulated_card import read_card  # noqa: PLC0415
    from kettlefield.standin.demo import DEMO_BUDGET_BYTES, prepare_demo  # noqa: PLC0415

    plan = prepare_demo(args.folder)
    log = make_console(stderr=True)
    log.print(safe(f"{plan}: two made-up models, four levels each; everything here is simulated but the grading"))
    card = read_card(args.folder / "card")
    weights = sorted((args.folder / "weights").glob("*.gguf"))
    settings = Settings(
        contexts=(2048,), parallel=(6,), budget_bytes=DEMO_BUDGET_BYTES, bandwidth_bytes_s=card.bandwidth_bytes_s
    )
    show_weighed(weights, settings, f"{format_bytes(DEMO_BUDGET_BYTES)}, as the plan has it", allowed=[])
    drafted = args.folder / "drafted.toml"
    if not drafted.exists():
        write_draft(
            weights,
            drafted,
            command=None,
            suite="berthdesk",
            budget=DEMO_BUDGET_BYTES,
            whence="as the demo's plan has it",
            accelerator="simulated:card",
        )
    code = run_campaign(plan, None)
    record = args.folder / "record.db"
    console = make_console()
    show_contrast(record)
    console.print()
    show_verdicts(record, None, as_json=False)
    console.print(
        safe(
            f"\nLook next at:\n  {plan}  what was decided beforehand ({drafted}: the same files, drafted)\n"
            f"  kettlefield contrast {record} --part speed  depth, clients, capacity, cache, loads\n"
            f"  kettlefield trials {record} --outcome wrong-answer  what failed\n"
            f"  kettlefield trials {record} --open 1  one trial whole: prompt, reply, files, checks\n"
            f"  kettlefield assess {plan}  a second model marks replies: how far to trust it\n"
            f"  kettlefield mark {record} --by NAME  mark them yourself, blind\n"
            f"  kettlefield decide {record} --json  the verdicts for a script"
        )
    )
    return code
