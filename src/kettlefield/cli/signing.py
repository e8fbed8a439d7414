"""``kettlefield decide --by`` and ``--audit``: the ledger of signatures."""

import sys
from datetime import UTC, datetime
from pathlib import Path

from kettlefield.cli.exits import ExitCode


def sign_record(path: Path, by: str | None, note: str) -> None:
    """Sign every verdict of a record as it is now; said on stderr, so that stdout stays the verdicts'."""
    from kettlefield.analysis.contrast import contrast  # noqa: PLC0415 - pandas and SciPy take a second
    from kettlefield.analysis.frames import campaign_facts  # noqa: PLC0415
    from kettlefield.analysis.ledger import sign  # noqa: PLC0415
    from kettlefield.analysis.verdict import reach_verdicts  # noqa: PLC0415
    from kettlefield.campaign.criteria import criteria_of_text  # noqa: PLC0415
    from kettlefield.core.errors import InputError  # noqa: PLC0415
    from kettlefield.core.plaintext import visible  # noqa: PLC0415
    from kettlefield.record.store import Record  # noqa: PLC0415

    if by is None:
        raise InputError("stands without a name", "--note", "Write --by NAME: a person signs.")
    record = Record.open(path)
    facts = campaign_facts(record)
    verdicts = reach_verdicts(contrast(record), criteria_of_text(facts["plan_text"], path))
    with record.lock():
        entry = sign(record, by=by, note=note, verdicts={one.candidate: one.verdict.value for one in verdicts})
    print(f"signed by {visible(entry.signed_by, keep_lines=False)}: {entry.digest}", file=sys.stderr)


def show_audit(path: Path, *, as_json: bool) -> ExitCode:
    """Print who signed what, and what was changed since; exit code 1 when anything was."""
    from kettlefield.analysis.ledger import audit  # noqa: PLC0415
    from kettlefield.cli.console import make_console, make_table, print_json, safe  # noqa: PLC0415
    from kettlefield.record.store import Record  # noqa: PLC0415

    found = audit(Record.open(path))
    if as_json:
        rows = [
            {"at": one.at, "by": one.signed_by, "note": one.note, "verdicts": one.verdicts, "digest": one.digest}
            for one in found.signatures
        ]
        print_json({"ok": bool(found.signatures) and not found.faults, "signatures": rows, "faults": found.faults})
    else:
        console = make_console()
        table = make_table("signed", "by", "approved", "note", "digest")
        for one in found.signatures:
            approved = ", ".join(name for name, verdict in one.verdicts.items() if verdict == "approved") or "none"
            when = datetime.fromtimestamp(one.at, UTC).strftime("%Y-%m-%d %H:%M UTC")
            table.add_row(when, *(safe(text) for text in (one.signed_by, approved, one.note, one.digest[:19])))
        if found.signatures:
            console.print(table)
        for fault in found.faults:
            console.print(safe(f"! {fault}", "red"))
        if not found.signatures:
            console.print("Nobody has signed this record yet: kettlefield decide RECORD --by NAME.", style="yellow")
        elif not found.faults:
            console.print("Nothing in the record was changed since the last signature.")
    if found.faults:
        return ExitCode.REJECTED
    return ExitCode.DONE if found.signatures else ExitCode.UNDECIDED
