"""``kettlefield decide --by`` and ``--audit``: the ledger of signatures."""

import sys
from datetime import UTC, datetime
from pathlib import Path

from kettlefield.cli.console import make_console, make_table, print_json, print_table, safe
from kettlefield.cli.exits import ExitCode
from kettlefield.core.plaintext import visible
from kettlefield.decision.ledger import Audit, audit, find_signer, sign, sign_text
from kettlefield.plan.evaluation import decide
from kettlefield.record.store import Record


def sign_record(path: Path, by: str, note: str, ssh_key: Path | None) -> None:
    """Sign every verdict of a record as it is now; said on stderr, so that stdout stays the verdicts'."""
    record = Record.open(path)
    verdicts = {one.candidate: one.verdict.value for one in decide(record).verdicts}
    with record.lock():
        if ssh_key is not None:
            sign_text("a trial, so that a key that cannot sign leaves no entry behind", ssh_key)
        entry = sign(record, by=by, note=note, verdicts=verdicts)
        if ssh_key is not None:
            signature_file(path).write_text(sign_text(entry.digest, ssh_key), encoding="ascii")
    print(f"signed by {visible(entry.signed_by, keep_lines=False)}: {entry.digest}", file=sys.stderr)


def signature_file(path: Path) -> Path:
    """Where the detached signature of a record's last ledger entry lies."""
    return path.with_name(path.name + ".sig")


def show_audit(path: Path, allowed_signers: Path | None, *, as_json: bool) -> ExitCode:
    """Print who signed what, and what was changed since; exit code 1 when anything was."""
    found = audit(Record.open(path))
    faults, signer = list(found.faults), None
    if allowed_signers is not None and found.signatures:
        signer = find_signer(found.signatures[-1].digest, signature_file(path), allowed_signers)
        if signer is None:
            faults.append(f"{signature_file(path).name} is not a signature of the last entry by anybody allowed")
    if as_json:
        rows = [
            {"at": one.at, "by": one.signed_by, "note": one.note, "verdicts": one.verdicts, "digest": one.digest}
            for one in found.signatures
        ]
        ok = bool(found.signatures) and not faults
        print_json({"ok": ok, "signatures": rows, "faults": faults, "ssh_signer": signer})
    else:
        _print(found, faults, signer)
    if faults:
        return ExitCode.REJECTED
    return ExitCode.DONE if found.signatures else ExitCode.UNDECIDED


def _print(found: Audit, faults: list[str], signer: str | None) -> None:

    console = make_console()
    table = make_table("signed", "by", "approved", "note", "digest")
    for one in found.signatures:
        approved = ", ".join(name for name, verdict in one.verdicts.items() if verdict == "approved") or "none"
        when = datetime.fromtimestamp(one.at, UTC).strftime("%Y-%m-%d %H:%M UTC")
        table.add_row(when, *(safe(text) for text in (one.signed_by, approved, one.note, one.digest[:19])))
    if found.signatures:
        print_table(console, table)
    for fault in faults:
        console.print(safe(f"! {fault}", "red"))
    if signer is not None:
        console.print(safe(f"The last entry bears the SSH signature of {signer}."))
    if not found.signatures:
        console.print("Nobody has signed this record yet: kettlefield decide RECORD --by NAME.", style="yellow")
    elif not faults:
        console.print("Nothing in the record was changed since the last signature.")
