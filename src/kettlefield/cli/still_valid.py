"""``kettlefield decide --still-valid``: is this machine still the one that was measured and signed for?"""

from pathlib import Path

from kettlefield.cli.changes import changes_json, print_changes
from kettlefield.cli.console import make_console, print_json, safe
from kettlefield.cli.exits import ExitCode
from kettlefield.core.acceptance import Verdict
from kettlefield.core.errors import InputError
from kettlefield.decision.ledger import audit
from kettlefield.decision.provenance import changes_since
from kettlefield.record.store import Record
from kettlefield.suite.typed_toml import nearest


def show_still_valid(path: Path, only: str | None, *, as_json: bool) -> ExitCode:
    """Print what changed on this machine since the campaign; exit code 4 when anything did, or nothing was approved."""
    record = Record.open(path)
    found = changes_since(record, folder=path.resolve().parent)
    if only is not None:
        if only not in found:
            raise InputError(f'there is no candidate "{only}"', str(path), nearest(only, list(found)))
        found = {only: found[only]}
    ledger = audit(record)
    signed_for = ledger.signatures[-1].verdicts if ledger.signatures else {}
    approved = [name for name in found if signed_for.get(name) == Verdict.APPROVED.value]
    asked_for = approved if only is None else list(found)
    valid = bool(approved) and not ledger.faults and not any(found[name] for name in asked_for)
    if as_json:
        rows = [
            {"candidate": name, "signed": signed_for.get(name), "changes": changes_json(changes)}
            for name, changes in found.items()
        ]
        signed = ledger.signatures[-1].digest if ledger.signatures else None
        print_json({"still_valid": valid, "signed": signed, "faults": ledger.faults, "candidates": rows})
        return ExitCode.DONE if valid else ExitCode.UNDECIDED
    console = make_console()
    if print_changes(console, found):
        console.print("Not what was measured: qualify again into a new record, then `kettlefield compare OLD NEW`.")
    for fault in ledger.faults:
        console.print(safe(f"! {fault}", "red"))
    if not ledger.signatures:
        console.print("Nobody has signed this record: kettlefield decide RECORD --by NAME.", style="yellow")
    elif not approved:
        verdicts = ", ".join(f"{name} {signed_for.get(name, 'without a verdict')}" for name in found)
        by = ledger.signatures[-1].signed_by
        console.print(safe(f"No approval: what {by} signed is {verdicts}.", "yellow"))
    if valid:
        by = ledger.signatures[-1].signed_by
        console.print(safe(f"Still valid for {', '.join(approved)}: rig, server and weights are what {by} signed for."))
    return ExitCode.DONE if valid else ExitCode.UNDECIDED
