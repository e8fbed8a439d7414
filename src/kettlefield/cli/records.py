"""``kettlefield records``: the campaigns of a database, and copying one between a database and a file."""

import argparse

from kettlefield.cli.commands import COMMANDS, ExitCode
from kettlefield.core.errors import InputError
from kettlefield.record.copying import copy_campaign
from kettlefield.record.place import read_place
from kettlefield.views.campaigns_view import campaigns_view
from kettlefield.views.terminal import show

COPY = "copy"


def add_parser(commands: "argparse._SubParsersAction[argparse.ArgumentParser]") -> None:
    """Add this command."""
    parser = commands.add_parser(
        "records",
        help=COMMANDS["records"],
        usage="%(prog)s PLACE [--json]\n       %(prog)s copy FROM TO",
        description="List the campaigns that a database holds. Or copy one between a database and a file, its digests\n"
        "and signatures intact. A password comes from PGPASSWORD or ~/.pgpass, never from the URL.",
        epilog="examples:\n  kettlefield records postgresql://desk@db.example/kettle\n"
        "  kettlefield records copy record.db postgresql://desk@db.example/kettle\n"
        "  kettlefield records copy 'postgresql://desk@db.example/kettle#berth-desk' berth-desk.db\n"
        "  kettlefield decide 'postgresql://desk@db.example/kettle#berth-desk' --audit",
        formatter_class=argparse.RawDescriptionHelpFormatter,
    )
    parser.add_argument("places", nargs="+", metavar="PLACE", help="a database's URL or a file; with copy, from and to")
    parser.add_argument("--json", action="store_true", help="print one JSON document")
    parser.set_defaults(run=run)


def run(args: argparse.Namespace) -> int:
    """List or copy."""
    places: list[str] = args.places
    if places[0] != COPY:
        if len(places) > 1:
            raise InputError(
                f"{len(places)} places are given", "records", "Name one; or write copy before two of them."
            )
        show(campaigns_view(read_place(places[0])), as_json=args.json)
        return ExitCode.DONE
    if len(places) != 3:
        raise InputError("wants two places", "records copy", "Write: kettlefield records copy FROM TO.")
    copy, rows = copy_campaign(read_place(places[1]), read_place(places[2]))
    print(f"copied {rows:,} rows to {copy.place}; digests are the same, signatures hold")
    return ExitCode.DONE
