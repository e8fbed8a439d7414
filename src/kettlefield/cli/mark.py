"""``kettlefield mark``: people mark replies without knowing whose they are."""

import argparse
import sys
from pathlib import Path
from typing import TYPE_CHECKING

from kettlefield.cli.commands import COMMANDS
from kettlefield.cli.exits import ExitCode
from kettlefield.cli.marking_sitting import sit
from kettlefield.core.errors import InputError
from kettlefield.marking.blind_replies import items_of, kinds_of
from kettlefield.marking.marks import read_marks_file
from kettlefield.record.store import Record
from kettlefield.results.frames import campaign_facts
from kettlefield.suite.format import KINDS
from kettlefield.views.marking_sheet import write_sheet
from kettlefield.views.marks_view import marks_view
from kettlefield.views.terminal import show

if TYPE_CHECKING:
    from kettlefield.record.store import Record


def add_parser(commands: "argparse._SubParsersAction[argparse.ArgumentParser]") -> None:
    """Add this command."""
    parser = commands.add_parser(
        "mark",
        help=COMMANDS["mark"],
        description="Mark replies from 0 to 4 by each exercise's guidance, without a word of whose they are; stop and\n"
        "go on when you like. Some come a second time at the end, to see whether your marks hold.",
        epilog="examples:\n  kettlefield mark record.db --by 'Ines Quine'\n"
        "  kettlefield mark record.db --by 'Ines Quine' --sheet pages.html   # pages are judged by their pictures\n"
        "  kettlefield mark record.db --read marks.json\n"
        "  kettlefield mark record.db                                        # how far markers agree",
        formatter_class=argparse.RawDescriptionHelpFormatter,
    )
    parser.add_argument("record", type=Path)
    parser.add_argument("--by", metavar="NAME", help="who marks; without it, what was marked so far is shown")
    parser.add_argument("--kinds", metavar="KIND,...", help="exercises of these kinds, or all (default explain,page)")
    way = parser.add_mutually_exclusive_group()
    way.add_argument("--sheet", type=Path, metavar="OUT", help="write a page to mark in, with the pictures of pages")
    way.add_argument("--read", type=Path, metavar="FILE", help="read the marks that a sheet saved")
    parser.add_argument("--json", action="store_true", help="print what was marked as one JSON document")
    parser.set_defaults(run=run)


def run(args: argparse.Namespace) -> int:
    """Mark, write a sheet, read one, or show what was marked."""
    _check_options(args)
    record = Record.open(args.record)
    title = campaign_facts(record)["title"]
    kinds = kinds_of(args.kinds)
    if args.read is not None:
        _read_sheet(record, args.read)
    elif args.sheet is not None:
        return _write_sheet(record, title, args)
    elif args.by is not None:
        sit(record, items_of(record, kinds), args.by, title)
        return ExitCode.DONE
    show(marks_view(Record.open(args.record)), as_json=args.json)
    return ExitCode.DONE


def _check_options(args: argparse.Namespace) -> None:

    if args.by is not None and (not args.by.strip() or not args.by.isprintable() or args.read is not None):
        what = "does not go with --read" if args.read is not None else "is not a name"
        raise InputError(what, "--by", "Write a person's name; a sheet that is read names its marker itself.")
    if args.sheet is not None and args.by is None:
        raise InputError("wants --by", "--sheet", "Say who marks: the order is drawn for each marker.")
    if args.json and (args.by is not None or args.sheet is not None):
        raise InputError("shows what was marked", "--json", "Leave --by and --sheet out.")


def _write_sheet(record: "Record", title: str, args: argparse.Namespace) -> int:

    try:
        shown = write_sheet(record, items_of(record, kinds_of(args.kinds)), args.by, title, args.sheet)
    except OSError as err:
        raise InputError(f"cannot be written ({err.strerror})", str(args.sheet), "Name a file of yours.") from err
    print(
        f"{args.sheet}: {shown} replies to mark. Open it in a browser, mark, press Save, then run:\n"
        f"  kettlefield mark {args.record} --read marks.json",
        file=sys.stderr,
    )
    return ExitCode.DONE


def _read_sheet(record: "Record", path: Path) -> None:

    marker, count, old = read_marks_file(record, items_of(record, KINDS), path)
    print(f"{path}: {count} marks by {marker} taken in, {old} were there already", file=sys.stderr)
