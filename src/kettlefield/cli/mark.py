"""``kettlefield mark``: people mark replies without knowing whose they are, on a sheet or in the terminal."""

import argparse
import sys
from collections.abc import Sequence
from pathlib import Path

from rich.console import Console

from kettlefield.cli.commands import COMMANDS, ExitCode
from kettlefield.cli.record_argument import add_record, place_of
from kettlefield.core.errors import InputError
from kettlefield.marking.blind_replies import Item, items_of, kinds_of
from kettlefield.marking.marks import read_marks_file, standing_marks
from kettlefield.marking.scale import CATEGORIES, Showing, order_of
from kettlefield.record.entries import MarkEntry
from kettlefield.record.store import Record
from kettlefield.results.frames import campaign_facts
from kettlefield.suite.format import KINDS
from kettlefield.views.marking_sheet import write_sheet
from kettlefield.views.marks_view import marks_view
from kettlefield.views.terminal import make_console, safe, show

KEYS = "0-4 and a note if you like, s skip, u undo, g guidance, q stop"
MOST_NOTE = 2000


def sit(record: Record, items: Sequence[Item], marker: str, title: str) -> None:
    """Show what is left to a marker, one reply at a time, and keep each mark as it is given."""
    console = make_console()
    pages = sum(item.kind == "page" for item in items)
    words = {item.digest: item for item in items if item.kind != "page"}
    sitting = _Sitting(record, words, marker)
    console.print(safe(f"{title}: marking by {marker}", "bold"))
    if pages:
        console.print(f"{pages} pages are judged by their pictures: mark them on a sheet (--sheet OUT)", style="dim")
    console.print(f"{len(sitting.order)} replies, {len(sitting.left)} left. {KEYS}.")
    sitting.run(console)
    console.print(f"{len(sitting.order) - len(sitting.left)} of {len(sitting.order)} are marked", style="bold")
    if sitting.left:
        console.print("The same command resumes.")


class _Sitting:
    """What is left, and what was done in this sitting."""

    def __init__(self, record: Record, items: dict[str, Item], marker: str) -> None:
        self._record, self._items, self._marker = record, items, marker
        self.order = order_of(((item.exercise, item.digest) for item in items.values()), marker)
        known = standing_marks(record)
        self.left = [one for one in self.order if (marker, one.item, one.showing) not in known]
        self._given: list[tuple[int, Showing]] = []  # place it was taken from, for undo

    def run(self, console: Console) -> None:
        """Until all is marked, the input ends or the marker stops."""
        at, shown = 0, ""
        fresh = True
        while at < len(self.left):
            one = self.left[at]
            item = self._items[one.item]
            if fresh:
                self._show(console, item, at, with_task=item.exercise != shown)
                shown = item.exercise
            fresh = True
            word, _, note = self._ask(console).partition(" ")
            if word in {"q", ""}:
                return
            if word == "s":
                at += 1
            elif word == "u":
                if self._given:
                    at = self._undo()
                else:
                    console.print("nothing was marked in this sitting")
            elif word == "g":
                console.print(safe(item.guidance))
                fresh = False
            elif word.isdigit() and len(word) == 1 and int(word) < CATEGORIES:
                self._give(at, int(word), note.strip()[:MOST_NOTE])
            else:
                console.print(f'"{safe(word).plain}" is none of {KEYS}')
                fresh = False

    def _ask(self, console: Console) -> str:
        console.print("mark> ", end="")
        line = sys.stdin.readline()
        if not line:  # the end of the input stops as q does
            console.print()
            return "q"
        return line.strip() or "?"

    def _give(self, at: int, value: int | None, note: str) -> None:
        one = self.left[at]
        self._save(one, value, note)
        self._given.append((at, one))
        del self.left[at]

    def _undo(self) -> int:
        """Take the last mark of this sitting back; where its reply is now."""
        at, one = self._given.pop()
        self._save(one, None, "")
        self.left.insert(at, one)
        return at

    def _save(self, one: Showing, value: int | None, note: str) -> None:
        self._record.save_marks(
            [
                MarkEntry(
                    marker=self._marker,
                    exercise_id=one.exercise,
                    item=one.item,
                    showing=one.showing,
                    value=value,
                    note=note,
                    via="terminal",
                )
            ]
        )

    def _show(self, console: Console, item: Item, at: int, *, with_task: bool) -> None:
        if with_task:
            console.rule(safe(item.title, "bold"), align="left")
            console.print(safe(item.prompt.strip()), soft_wrap=True)
            console.print(safe(f"\n{item.guidance}", "cyan"))
        console.print(safe(f"\n--- a reply, {len(self.left) - at} to go ", "bold cyan"))
        for name, text in item.files.items():
            if len(item.files) > 1:
                console.print(safe(f"--- {name}", "cyan"))
            console.print(safe(text.rstrip("\n")), soft_wrap=True)


def add_parser(commands: "argparse._SubParsersAction[argparse.ArgumentParser]") -> None:
    """Add this command."""
    parser = commands.add_parser(
        "mark",
        help=COMMANDS["mark"],
        description="Mark replies from 0 to 4 by each exercise's guidance, without a word of whose they are; stop and\n"
        "resume when you like. Some come a second time at the end, to see whether your marks hold.",
        epilog="examples:\n  kettlefield mark record.db --by 'Ines Quine'\n"
        "  kettlefield mark record.db --by 'Ines Quine' --sheet pages.html   # pages are judged by their pictures\n"
        "  kettlefield mark record.db --read marks.json\n"
        "  kettlefield mark record.db                                        # how far markers agree",
        formatter_class=argparse.RawDescriptionHelpFormatter,
    )
    add_record(parser)
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
    record = Record.open(place_of(args))
    title = campaign_facts(record)["title"]
    kinds = kinds_of(args.kinds)
    if args.read is not None:
        _read_sheet(record, args.read)
    elif args.sheet is not None:
        return _write_sheet(record, title, args)
    elif args.by is not None:
        sit(record, items_of(record, kinds), args.by, title)
        return ExitCode.DONE
    show(marks_view(Record.open(place_of(args))), as_json=args.json)
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
