"""``kettlefield export``: a record handed on in open formats."""

import argparse
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

from kettlefield.cli.commands import COMMANDS, ExitCode
from kettlefield.cli.record_argument import add_record, place_of
from kettlefield.core.acceptance import Verdict
from kettlefield.core.errors import InputError
from kettlefield.decision.provenance import standings
from kettlefield.plan.criteria import decide
from kettlefield.record.signed_rows import signatures
from kettlefield.record.store import Record
from kettlefield.suite.typed_toml import nearest
from kettlefield.views.exports import candidate_bill, criteria_xml, write_tables

if TYPE_CHECKING:
    from kettlefield.record.store import Record

FORMS = ("csv", "parquet", "junit", "bom")


def add_parser(commands: "argparse._SubParsersAction[argparse.ArgumentParser]") -> None:
    """Add this command."""
    parser = commands.add_parser(
        "export",
        help=COMMANDS["export"],
        description="Write a record's trials and timed samples as tables with a data dictionary, its criteria as XML\n"
        "for a CI server, and a bill of materials (CycloneDX 1.6) of every approved candidate.",
        epilog="examples:\n  kettlefield export record.db -o handover\n"
        "  kettlefield export record.db -o handover --as junit\n"
        "  kettlefield export record.db -o handover --as bom --candidate marram-1.2b@q4_k_m",
        formatter_class=argparse.RawDescriptionHelpFormatter,
    )
    add_record(parser)
    parser.add_argument("-o", "--output", type=Path, required=True, metavar="FOLDER", help="made where it is missing")
    parser.add_argument(
        "--as",
        dest="forms",
        action="append",
        choices=FORMS,
        help="only this form; may be repeated (default: all but parquet)",
    )
    parser.add_argument("--candidate", metavar="MODEL@LEVEL", help="for bom: only this one, which must be approved")
    parser.set_defaults(run=run)


def run(args: argparse.Namespace) -> int:
    """Write the files and name each on stdout."""
    record = Record.open(place_of(args))
    forms = args.forms or [form for form in FORMS if form != "parquet"]
    if args.candidate is not None and forms != ["bom"]:
        raise InputError("is for a bill of materials", "--candidate", "Write --as bom with it.")
    makers: dict[str, Callable[[], tuple[Path, ...]]] = {
        "csv": lambda: _tables(record, args.output, "csv"),
        "parquet": lambda: _tables(record, args.output, "parquet"),
        "junit": lambda: _criteria(record, args.output),
        "bom": lambda: _bills(record, args.output, args.candidate),
    }
    try:
        args.output.mkdir(parents=True, exist_ok=True)
        for form in dict.fromkeys(forms):
            for path in makers[form]():
                print(path)
    except OSError as err:
        raise InputError(f"cannot be written ({err.strerror})", str(args.output), "Name another folder.") from err
    return ExitCode.DONE


def _tables(record: "Record", folder: Path, form: str) -> tuple[Path, ...]:

    return write_tables(record, folder, "csv" if form == "csv" else "parquet")


def _criteria(record: "Record", folder: Path) -> tuple[Path, ...]:

    path = folder / "criteria.xml"
    path.write_text(criteria_xml(decide(record)), encoding="utf-8")
    return (path,)


def _bills(record: "Record", folder: Path, only: str | None) -> tuple[Path, ...]:

    decision, grounds, ledger = decide(record), standings(record), signatures(record)
    if only is None:
        chosen = [one for one in decision.verdicts if one.verdict is Verdict.APPROVED]
    else:
        chosen = [one for one in decision.verdicts if one.candidate == only]
        if not chosen:
            names = [one.candidate for one in decision.verdicts]
            raise InputError(f'there is no candidate "{only}"', str(record.place), nearest(only, names))
    written = []
    for one in chosen:
        path = folder / f"{one.candidate.replace('/', '_')}.cdx.json"
        path.write_text(candidate_bill(decision, one, grounds[one.candidate], ledger), encoding="utf-8")
        written.append(path)
    return tuple(written)
