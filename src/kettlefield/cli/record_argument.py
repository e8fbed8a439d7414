"""The RECORD that most commands are given: a file, or a campaign in a database."""

import argparse
from pathlib import Path

from kettlefield.core.errors import InputError
from kettlefield.record.place import DatabasePlace, Place, read_place

WHAT = "a file, or postgresql+psycopg://USER@HOST/DATABASE#CAMPAIGN"


def add_record(parser: argparse.ArgumentParser) -> None:
    """Add the argument, and what names a campaign in place of ``#CAMPAIGN``."""
    parser.add_argument("record", help=WHAT)
    add_campaign(parser)


def add_campaign(parser: argparse.ArgumentParser) -> None:
    """Add what names a campaign where the record is a database of several."""
    parser.add_argument("--campaign", metavar="NAME", help="of a database: this campaign; as #NAME behind the URL")


def place_of(args: argparse.Namespace) -> Place:
    """The place that the one RECORD argument and ``--campaign`` name.

    Raises
    ------
    InputError
        It cannot be a place, or ``--campaign`` goes with a file or with another name.
    """
    written = args.record if isinstance(args.record, str) else args.record[0]
    place = read_place(written)
    if args.campaign is None:
        return place
    if not isinstance(place, DatabasePlace):
        raise InputError("is a file, which holds one campaign", str(place), "Leave --campaign out.")
    if place.campaign not in {None, args.campaign}:
        raise InputError(f"names another campaign than --campaign {args.campaign}", str(place), "Name one of them.")
    return place.named(args.campaign)


def signature_file(place: Place) -> Path:
    """Where the detached signature of a record's last ledger entry lies."""
    return place.beside(".sig")
