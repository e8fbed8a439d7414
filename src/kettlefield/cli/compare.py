"""``kettlefield compare``: candidates side by side."""

import argparse
from collections.abc import Callable

from kettlefield.cli.commands import COMMANDS, ExitCode
from kettlefield.cli.record_argument import WHAT, add_campaign, place_of
from kettlefield.core.errors import InputError
from kettlefield.record.place import read_place
from kettlefield.record.store import Record
from kettlefield.views.answers_view import cost_view, groups_view, outcomes_view, replies_view, solved_view
from kettlefield.views.comparison_view import comparison_rows, comparison_view
from kettlefield.views.fidelity_view import fidelity_view
from kettlefield.views.fill_view import fill_view
from kettlefield.views.looks_view import looks_view
from kettlefield.views.marks_view import marks_view
from kettlefield.views.memory_view import memory_view
from kettlefield.views.needed_parts_view import needed_parts_view
from kettlefield.views.overview_view import overview_view
from kettlefield.views.records_view import record_views
from kettlefield.views.rigs_view import rigs_view
from kettlefield.views.speed_view import speed_view
from kettlefield.views.table import View
from kettlefield.views.terminal import print_csv, print_json, show
from kettlefield.views.workspace_view import workspace_view

PARTS: dict[str, Callable[[Record, str | None], View]] = {
    "solved": solved_view,
    "speed": speed_view,
    "memory": memory_view,
    "cost": cost_view,
    "fidelity": fidelity_view,
    "fill": fill_view,
    "refer": needed_parts_view,
    "workspaces": workspace_view,
    "replies": replies_view,
    "marks": marks_view,
    "looks": looks_view,
    "rigs": rigs_view,
}


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
    parser.add_argument("record", nargs="+", help=f"one ({WHAT}); or an old one and newer ones to compare with it")
    add_campaign(parser)
    parser.add_argument(
        "--part",
        choices=tuple(PARTS),
        help="the whole of one part: every timing procedure; memory by phase; solved at first, after repair and in "
        "several samples; cost of a solution; how likely fixed texts are and how near each level stays to its "
        "reference; what files before the task take; tasks about a long text, by its length and by where the needed "
        "parts stand; work in a repository through tools; how far replies follow the reference level's; marks by "
        "people and by a judge model; how criteria stood at each look of a campaign that stops when it is decided; "
        "which level on which rig, of a campaign on several",
    )
    parser.add_argument("--against", metavar="MODEL@LEVEL", help="compare all others with this one, whatever its model")
    parser.add_argument(
        "--pairs", action="store_true", help="name the exercises won and lost against the reference level"
    )
    parser.add_argument(
        "--notes", action="store_true", help="what the figures mean, and what was noted while they were measured"
    )
    parser.add_argument("-w", "--wide", action="store_true", help="every table with all its columns, and the notes")
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
    """Print what was asked for."""
    _check_options(args)
    if len(args.record) > 1:
        views = record_views([read_place(one) for one in args.record], args.only)
        if args.json:
            print_json({"comparisons": [view.document for view in views]})
        else:
            for view in views:
                show(view, as_json=False)
        return ExitCode.DONE
    record = Record.open(place_of(args))
    if args.csv:
        print_csv(comparison_rows(record, args.only, args.against))
    else:
        show(_view(args, record), as_json=args.json)
    return ExitCode.DONE


def _view(args: argparse.Namespace, record: Record) -> View:
    if args.by == "outcome":
        return outcomes_view(record, args.only)
    if args.by is not None:
        return groups_view(record, args.by, args.only)
    if args.part == "replies":
        return replies_view(record, args.only, against=args.against)
    if args.part is not None:
        return PARTS[args.part](record, args.only)
    if args.wide:
        return comparison_view(record, args.only, against=args.against, pairs=args.pairs)
    return overview_view(record, args.only, against=args.against, pairs=args.pairs, with_notes=args.notes)


def _check_options(args: argparse.Namespace) -> None:
    """Options that say nothing together are refused, not passed over."""
    names = ("by", "part", "pairs", "against", "csv", "campaign", "wide", "notes")
    given = [name for name in names if getattr(args, name)]
    allowed = {frozenset(), frozenset({"against", "csv"})}
    allowed |= {frozenset({"against", "pairs", *more}) for more in ((), ("wide",), ("notes",), ("wide", "notes"))}
    allowed |= {frozenset({one, *more}) for one in ("against", "pairs") for more in (("wide",), ("notes",))}
    allowed.add(frozenset({"wide", "notes"}))
    if args.part == "replies":
        allowed.add(frozenset({"part", "against"}))
    if len(args.record) > 1 and given:
        raise InputError(f"--{given[0]} is for one record", "compare", "Name one record, or leave the option out.")
    given = [name for name in given if name != "campaign"]
    if len(given) > 1 and frozenset(given) not in allowed:
        words = " and ".join(f"--{name}" for name in given)
        raise InputError(f"{words} do not go together", "compare", "Ask for one after the other.")
