"""``kettlefield decide``: the criteria one by one, and the verdict."""

import argparse
import sys
from pathlib import Path

from kettlefield.cli.commands import COMMANDS, ExitCode, exit_code_of
from kettlefield.cli.record_argument import add_record, place_of, signature_file
from kettlefield.core.acceptance import Verdict
from kettlefield.core.errors import InputError
from kettlefield.core.plaintext import visible
from kettlefield.decision.ledger import Audit, audit, find_signer, sign, sign_text
from kettlefield.decision.looks import looks_that_differ
from kettlefield.decision.provenance import changes_since
from kettlefield.decision.verdict import overall
from kettlefield.plan.criteria import decide, terms_of_text
from kettlefield.record.place import Place
from kettlefield.record.store import Record
from kettlefield.results.frames import campaign_facts
from kettlefield.results.look_rows import blocks_of
from kettlefield.suite.typed_toml import nearest, read_text
from kettlefield.views.criteria_view import signatures_table, verdicts_view
from kettlefield.views.records_view import changes_json, changes_table
from kettlefield.views.table import Table, Words, present
from kettlefield.views.terminal import make_console, print_json, print_parts, print_table, safe, show

ROOM_FOR_TABLE = 176  # columns: the table's own words take some 150, and reasons want room


def add_parser(commands: "argparse._SubParsersAction[argparse.ArgumentParser]") -> None:
    """Add this command."""
    parser = commands.add_parser(
        "decide",
        help=COMMANDS["decide"],
        description="Show each criterion as met, not met or undecided, and the verdict on every candidate.\n"
        "The criteria are those of the plan as it stood when the campaign began.",
        epilog="exit code: 0 when a candidate is approved, else 4 when one is undecided, else 1;\n"
        "for --audit 1 when the record was changed; for --still-valid 4 when something changed.\n\n"
        "examples:\n  kettlefield decide record.db\n  kettlefield decide record.db --candidate marram-1.2b@q4_k_m\n"
        '  kettlefield decide record.db --by "R. Tern" --note "for the berth desk only"\n'
        "  kettlefield decide record.db --audit\n  kettlefield decide record.db --still-valid",
        formatter_class=argparse.RawDescriptionHelpFormatter,
    )
    add_record(parser)
    parser.add_argument("--candidate", metavar="MODEL@LEVEL", help="only this one; it alone sets the exit code")
    parser.add_argument(
        "--plan",
        type=Path,
        help="show what this plan's criteria say too, where they were changed since; they decide nothing",
    )
    parser.add_argument("--by", metavar="NAME", help="sign the verdicts with this name, in the record's ledger")
    parser.add_argument("--note", metavar="TEXT", help="why, or under which conditions; with --by")
    parser.add_argument(
        "--ssh-key", type=Path, metavar="KEY", help="with --by: also sign with this SSH key, into RECORD.sig"
    )
    ways = parser.add_mutually_exclusive_group()
    ways.add_argument(
        "--audit",
        action="store_true",
        help="was anything in the record changed since it was signed, and do its looks follow from its trials?",
    )
    ways.add_argument(
        "--still-valid",
        action="store_true",
        help="are rig, server and weights still what was measured? for a nightly job",
    )
    parser.add_argument(
        "--allowed-signers",
        type=Path,
        metavar="FILE",
        help="with --audit: check RECORD.sig too; lines of `NAME KEYTYPE KEY` as ssh-keygen reads them",
    )
    parser.add_argument("--json", action="store_true", help="print one JSON document")
    parser.set_defaults(run=run)


def run(args: argparse.Namespace) -> int:
    """Print the verdicts, sign them, or hold the record against its signatures or against this machine."""
    _check_options(args)
    place = place_of(args)
    if args.audit:
        return show_audit(place, args.allowed_signers, as_json=args.json)
    if args.still_valid:
        return show_still_valid(place, args.candidate, as_json=args.json)
    if args.by is not None:
        sign_record(place, args.by, args.note or "", args.ssh_key)
    return show_verdicts(place, args.candidate, as_json=args.json, changed_plan=args.plan)


def _check_options(args: argparse.Namespace) -> None:

    for name in ("note", "ssh_key"):
        if getattr(args, name) is not None and args.by is None:
            option = f"--{name.replace('_', '-')}"
            raise InputError("needs --by", option, "Write --by NAME: a person signs.")
    if args.allowed_signers is not None and not args.audit:
        raise InputError("needs --audit", "--allowed-signers", "It says whose signature --audit accepts.")
    if args.by is not None and (args.audit or args.still_valid):
        raise InputError("does not go with --audit or --still-valid", "--by", "Sign first, then check.")


def show_verdicts(place: Place | Path, only: str | None, *, as_json: bool, changed_plan: Path | None = None) -> int:
    """Print the verdicts of a record; the exit code that they call for."""
    record = Record.open(place)
    decision = decide(record)
    changed = None
    if changed_plan is not None:
        changed = decide(record, terms=terms_of_text(read_text(changed_plan), str(changed_plan)))
    verdicts = decision.verdicts
    if only is not None:
        names = [verdict.candidate for verdict in verdicts]
        verdicts = tuple(verdict for verdict in verdicts if verdict.candidate == only)
        if not verdicts:
            raise InputError(f'there is no candidate "{only}"', str(place), nearest(only, names))
    show(verdicts_view(record, decision, verdicts, changed), as_json=as_json)
    return exit_code_of(overall(verdicts))


def sign_record(place: Place | Path, by: str, note: str, ssh_key: Path | None) -> None:
    """Sign every verdict of a record as it is now; said on stderr, so that stdout stays the verdicts'."""
    record = Record.open(place)
    verdicts = {one.candidate: one.verdict.value for one in decide(record).verdicts}
    with record.lock():
        if ssh_key is not None:
            sign_text("a trial, so that a key that cannot sign leaves no entry behind", ssh_key)
        entry = sign(record, by=by, note=note, verdicts=verdicts)
        if ssh_key is not None:
            signature_file(record.place).write_text(sign_text(entry.digest, ssh_key), encoding="ascii")
    print(f"signed by {visible(entry.signed_by, keep_lines=False)}: {entry.digest}", file=sys.stderr)


def show_audit(place: Place | Path, allowed_signers: Path | None, *, as_json: bool) -> ExitCode:
    """Print who signed what, and what was changed since; exit code 1 when anything was."""
    record = Record.open(place)
    audited = audit(record)
    faults, signer = list(audited.faults), None
    if blocks_of(record) is not None:
        terms = terms_of_text(campaign_facts(record)["plan_text"], str(place))
        faults += looks_that_differ(record, terms.criteria, terms.weights)
    if allowed_signers is not None and audited.signatures:
        signer = find_signer(audited.signatures[-1].digest, signature_file(record.place), allowed_signers)
        if signer is None:
            faults.append(
                f"{signature_file(record.place).name} is not a signature of the last entry by anybody allowed"
            )
    if not as_json:
        print_parts(make_console(), _audit_parts(audited, faults, signer))
    else:
        rows = [
            {"at": one.at, "by": one.signed_by, "note": one.note, "verdicts": one.verdicts, "digest": one.digest}
            for one in audited.signatures
        ]
        ok = bool(audited.signatures) and not faults
        print_json({"ok": ok, "signatures": rows, "faults": faults, "ssh_signer": signer})
    if faults:
        return ExitCode.REJECTED
    return ExitCode.DONE if audited.signatures else ExitCode.UNDECIDED


def _audit_parts(audited: Audit, faults: list[str], signer: str | None) -> tuple[Table | Words, ...]:
    nobody = "Nobody has signed this record yet: kettlefield decide RECORD --by NAME."
    return present(
        signatures_table(audited.signatures),
        *(Words(text=f"! {fault}", tone="warning") for fault in faults),
        Words(text=f"The last entry bears the SSH signature of {signer}.") if signer is not None else None,
        None if audited.signatures else Words(text=nobody, tone="warning"),
        Words(text="Nothing in the record was changed since the last signature.")
        if audited.signatures and not faults
        else None,
    )


def show_still_valid(place: Place | Path, only: str | None, *, as_json: bool) -> ExitCode:
    """Print what changed on this machine since the campaign; exit code 4 when anything did, or nothing was approved."""
    record = Record.open(place)
    compared = changes_since(record, folder=record.place.folder.resolve())
    if only is not None:
        if only not in compared:
            raise InputError(f'there is no candidate "{only}"', str(place), nearest(only, list(compared)))
        compared = {only: compared[only]}
    ledger = audit(record)
    signed_for = ledger.signatures[-1].verdicts if ledger.signatures else {}
    approved = [name for name in compared if signed_for.get(name) == Verdict.APPROVED.value]
    asked_for = approved if only is None else list(compared)
    valid = bool(approved) and not ledger.faults and not any(compared[name] for name in asked_for)
    if as_json:
        rows = [
            {"candidate": name, "signed": signed_for.get(name), "changes": changes_json(changes)}
            for name, changes in compared.items()
        ]
        signed = ledger.signatures[-1].digest if ledger.signatures else None
        print_json({"still_valid": valid, "signed": signed, "faults": ledger.faults, "candidates": rows})
        return ExitCode.DONE if valid else ExitCode.UNDECIDED
    console = make_console()
    changes = changes_table(compared)
    if changes is not None:
        print_table(console, changes)
        console.print("Not what was measured: qualify again into a new record, then `kettlefield compare OLD NEW`.")
    for fault in ledger.faults:
        console.print(safe(f"! {fault}", "red"))
    if not ledger.signatures:
        console.print("Nobody has signed this record: kettlefield decide RECORD --by NAME.", style="yellow")
    elif not approved:
        verdicts = ", ".join(f"{name} {signed_for.get(name, 'without a verdict')}" for name in compared)
        by = ledger.signatures[-1].signed_by
        console.print(safe(f"No approval: what {by} signed is {verdicts}.", "yellow"))
    if valid:
        by = ledger.signatures[-1].signed_by
        console.print(safe(f"Still valid for {', '.join(approved)}: rig, server and weights are what {by} signed for."))
    return ExitCode.DONE if valid else ExitCode.UNDECIDED
