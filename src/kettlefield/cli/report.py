"""``kettlefield report``: a page that people want to read."""

import argparse
from pathlib import Path

from kettlefield.cli.commands import COMMANDS, ExitCode
from kettlefield.cli.record_argument import WHAT, add_campaign, place_of
from kettlefield.core.errors import InputError
from kettlefield.plan.criteria import decide
from kettlefield.record.place import Place, read_place
from kettlefield.record.store import Record
from kettlefield.views.printing import print_pdf
from kettlefield.views.report_page import write_comparison, write_report


def add_parser(commands: "argparse._SubParsersAction[argparse.ArgumentParser]") -> None:
    """Add this command."""
    parser = commands.add_parser(
        "report",
        help=COMMANDS["report"],
        description="Write a record as one self-contained HTML page, and its figures as SVG beside it.\n"
        "The page loads nothing from elsewhere, holds no scripts, prints on A4 and opens from a mail.",
        epilog="examples:\n  kettlefield report record.db -o report\n"
        "  kettlefield report record.db -o report --markdown\n"
        "  kettlefield report signed.db tonight.db -o changes",
        formatter_class=argparse.RawDescriptionHelpFormatter,
    )
    parser.add_argument("record", nargs="+", help=f"one ({WHAT}); or an old one and newer ones: what changed")
    add_campaign(parser)
    parser.add_argument("-o", "--output", type=Path, required=True, metavar="FOLDER", help="made where it is missing")
    parser.add_argument("--markdown", action="store_true", help="report.md in place of report.html")
    parser.add_argument("--pdf", action="store_true", help="report.pdf too, printed by the Chromium that is installed")
    parser.add_argument(
        "--all-trials",
        action="store_true",
        help="pages of every trial beyond the first 500 too, trials-2.html and so on",
    )
    parser.add_argument("--png", action="store_true", help="figures as PNG too, for slides and tickets")
    parser.set_defaults(run=run)


def run(args: argparse.Namespace) -> int:
    """Write it and say where it is."""
    if args.pdf and args.markdown:
        raise InputError("does not go with --markdown", "--pdf", "The page is printed, not the text.")
    if len(args.record) > 1:
        if args.campaign is not None or args.png:
            option = "--campaign" if args.campaign is not None else "--png"
            raise InputError(f"{option} is for one record", "report", "Name one record, or leave the option out.")
        path = show_comparison([read_place(one) for one in args.record], args.output, as_markdown=args.markdown)
    else:
        path = show_report(
            place_of(args), args.output, as_markdown=args.markdown, with_png=args.png, all_trials=args.all_trials
        )
    if args.pdf:
        print(print_pdf(path))
    return ExitCode.DONE


def show_comparison(places: list[Place], folder: Path, *, as_markdown: bool) -> Path:
    """Write what changed between records into a folder and say where it is.

    Raises
    ------
    InputError
        Two share no candidate, or the folder cannot be written.
    """
    try:
        (path,) = write_comparison(places, folder, as_markdown=as_markdown)
    except OSError as err:
        raise InputError(f"cannot be written ({err.strerror})", str(folder), "Name another folder.") from err
    print(path)
    return path


def show_report(
    place: Place | Path, folder: Path, *, as_markdown: bool, with_png: bool = False, all_trials: bool = False
) -> Path:
    """Write a record's report into a folder and say where it is; the report itself.

    Raises
    ------
    InputError
        There is no such record, or the folder cannot be written.
    """
    record = Record.open(place)
    try:
        written = write_report(
            record, decide(record), folder, as_markdown=as_markdown, with_png=with_png, all_trials=all_trials
        )
    except OSError as err:
        raise InputError(f"cannot be written ({err.strerror})", str(folder), "Name another folder.") from err
    print(written[0])
    figures = sum(file.suffix == ".svg" for file in written)
    print(f"{figures} figures in {written[0].parent / 'figures'}, as SVG{' and PNG' if with_png else ''}")
    return written[0]
