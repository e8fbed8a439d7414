"""``kettlefield compare``: candidates side by side."""

import argparse
import importlib
from pathlib import Path

from kettlefield.cli.between_part import show_between
from kettlefield.cli.commands import COMMANDS
from kettlefield.cli.comparison_table import Shape, show_comparison
from kettlefield.cli.exits import ExitCode
from kettlefield.cli.groups_part import show_groups
from kettlefield.cli.replies_part import show_replies
from kettlefield.core.errors import InputError

PARTS = ("solved", "speed", "memory", "cost", "replies", "marks")


def add_parser(commands: "argparse._SubParsersAction[argparse.ArgumentParser]") -> None:
    """Add this command."""
    parser = commands.add_parser(
        "compare",
        help=COMMANDS["compare"],
        description="Show what each candidate of a record solved, how fast, in how much memory,\nwith 95 % intervals. "
        "Of two records: what changed between them, and which figures moved by more than noise.",
        epilog="examples:\n  kettlefield compare record.db\n  kettlefield compare record.db --part speed\n"
        "  kettlefield compare record.db --by kind\n"
        "  kettlefield compare record.db --against marram-1.2b@q8_0 --pairs\n"
        "  kettlefield compare signed.db tonight.db\n"
        "  kettlefield compare record.db --json | jq .candidates",
        formatter_class=argparse.RawDescriptionHelpFormatter,
    )
    parser.add_argument("record", type=Path, nargs="+", help="one; or an old one and newer ones to compare with it")
    parser.add_argument(
        "--part",
        choices=PARTS,
        help="the whole of one part: every timing procedure; memory by phase; solved at first, after repair and in "
        "several samples; cost of a solution; how far replies follow the reference level's; marks by people and by an "
        "judge",
    )
    parser.add_argument("--against", metavar="MODEL@LEVEL", help="compare all others with this one, whatever its model")
    parser.add_argument(
        "--pairs", action="store_true", help="name the exercises won and lost against the reference level"
    )
    parser.add_argument(
        "--by",
        choices=("kind", "language", "difficulty", "topic", "outcome"),
        help="what was solved by kind, language, difficulty or topic; or the outcomes",
    )
    parser.add_argument("--only", metavar="PATTERN", help="only candidates that match, e.g. 'marram-1.2b@*'")
    shape = parser.add_mutually_exclusive_group()
    shape.add_argument("--json", action="store_true", help="print one JSON document")
    shape.add_argument("--csv", action="store_true", help="print the table as CSV, one row a candidate")
    parser.set_defaults(run=run)


def run(args: argparse.Namespace) -> int:
    """Print the table."""
    _check_options(args)
    if len(args.record) > 1:
        show_between(args.record, args.only, as_json=args.json)
        return ExitCode.DONE
    (record,) = args.record
    if args.by is not None:
        show_groups(record, args.only, args.by, as_json=args.json)
    elif args.part == "replies":
        show_replies(record, args.only, args.against, as_json=args.json)
    elif args.part is not None:
        module = importlib.import_module(f"kettlefield.cli.{args.part}_part")
        getattr(module, f"show_{args.part}")(record, args.only, as_json=args.json)
    else:
        shape: Shape = "json" if args.json else "csv" if args.csv else "table"
        show_comparison(record, args.only, shape=shape, name_pairs=args.pairs, against=args.against)
    return ExitCode.DONE


def _check_options(args: argparse.Namespace) -> None:
    """Options that say nothing together are refused, not passed over."""
    given = [name for name in ("by", "part", "pairs", "against", "csv") if getattr(args, name)]
    allowed = {frozenset(), frozenset({"against", "pairs"}), frozenset({"against", "csv"})}
    if args.part == "replies":
        allowed.add(frozenset({"part", "against"}))
    if len(args.record) > 1 and given:
        raise InputError(f"--{given[0]} is for one record", "compare", "Name one record, or leave the option out.")
    if len(given) > 1 and frozenset(given) not in allowed:
        words = " and ".join(f"--{name}" for name in given)
        raise InputError(f"{words} do not go together", "compare", "Ask for one after the other.")
