"""``kettlefield decide``: the criteria one by one, and the verdict."""

import argparse
from pathlib import Path
from typing import TYPE_CHECKING, Any

from kettlefield.cli.exits import OF_VERDICT

if TYPE_CHECKING:
    from kettlefield.analysis.verdict import CandidateVerdict


def add_parser(commands: "argparse._SubParsersAction[argparse.ArgumentParser]") -> None:
    """Add this command."""
    parser = commands.add_parser(
        "decide",
        help="hold a record against its plan's criteria",
        description="Show each criterion as met, not met or undecided, and the verdict on every candidate.\n"
        "The criteria are those of the plan as it stood when the campaign began.",
        epilog="exit code: 0 when a candidate is approved, else 4 when one is undecided, else 1.\n\n"
        "examples:\n  kettlefield decide record.db\n  kettlefield decide record.db --candidate marram-1.2b@q4_k_m",
        formatter_class=argparse.RawDescriptionHelpFormatter,
    )
    parser.add_argument("record", type=Path)
    parser.add_argument("--candidate", metavar="MODEL@LEVEL", help="only this one; it alone sets the exit code")
    parser.add_argument("--by", metavar="NAME", help="sign the verdicts with this name, in the record's ledger")
    parser.add_argument("--note", metavar="TEXT", help="why, or under which conditions; with --by")
    parser.add_argument("--audit", action="store_true", help="was anything in the record changed since it was signed?")
    parser.add_argument("--json", action="store_true", help="print one JSON document")
    parser.set_defaults(run=run)


def run(args: argparse.Namespace) -> int:
    """Print the verdicts, sign them, or hold the record against its signatures."""
    if args.audit:
        from kettlefield.cli.signing import show_audit  # noqa: PLC0415

        return show_audit(args.record, as_json=args.json)
    if args.by is not None or args.note is not None:
        from kettlefield.cli.signing import sign_record  # noqa: PLC0415

        sign_record(args.record, args.by, args.note or "")
    return show_verdicts(args.record, args.candidate, as_json=args.json)


def show_verdicts(path: Path, only: str | None, *, as_json: bool) -> int:
    """Print the verdicts of a record; the exit code that they call for."""
    from kettlefield.analysis.contrast import contrast  # noqa: PLC0415 - pandas and SciPy take a second
    from kettlefield.analysis.frames import campaign_facts  # noqa: PLC0415
    from kettlefield.analysis.verdict import overall, reach_verdicts, recommendations  # noqa: PLC0415
    from kettlefield.campaign.criteria import criteria_of_text  # noqa: PLC0415
    from kettlefield.cli.console import print_json  # noqa: PLC0415
    from kettlefield.core.errors import InputError  # noqa: PLC0415
    from kettlefield.record.store import Record  # noqa: PLC0415
    from kettlefield.suite.toml_struct import nearest  # noqa: PLC0415

    record = Record.open(path)
    facts = campaign_facts(record)
    table = contrast(record)
    verdicts = reach_verdicts(table, criteria_of_text(facts["plan_text"], path))
    recommended = recommendations(table, verdicts)
    if only is not None:
        names = [verdict.candidate for verdict in verdicts]
        verdicts = tuple(verdict for verdict in verdicts if verdict.candidate == only)
        if not verdicts:
            raise InputError(f'there is no candidate "{only}"', str(path), nearest(only, names))
    if as_json:
        rows = [_as_json(verdict) for verdict in verdicts]
        print_json({"simulated": facts["simulated"], "verdicts": rows, "recommended": recommended})
    else:
        _print(verdicts, recommended, simulated=facts["simulated"])
    return OF_VERDICT[overall(verdicts)]


def _as_json(verdict: "CandidateVerdict") -> dict[str, Any]:
    from kettlefield.cli.console import estimate_json  # noqa: PLC0415

    return {
        "candidate": verdict.candidate,
        "verdict": verdict.verdict.value,
        "criteria": [
            {
                "measure": judgement.criterion.measure,
                "wanted": judgement.criterion.wanted,
                "found": estimate_json(judgement.found),
                "status": judgement.status.value,
                "reason": judgement.reason,
            }
            for judgement in verdict.judgements
        ],
    }


def _print(verdicts: "tuple[CandidateVerdict, ...]", recommended: dict[str, str], *, simulated: bool) -> None:
    from kettlefield.cli.console import in_words, make_console, make_table, safe, status_text  # noqa: PLC0415
    from kettlefield.core.measures import MEASURES  # noqa: PLC0415

    console = make_console()
    if simulated:
        console.print("SIMULATED: no real model was measured", style="yellow")
    table = make_table("candidate", "verdict", "measure", "wanted", "found (one-sided bounds)", "status")
    for column in table.columns[:-1]:
        column.no_wrap = True  # the reason in the last one may fold
    for verdict in verdicts:
        name, word = safe(verdict.candidate, "bold"), status_text(verdict.verdict.value)
        for judgement in verdict.judgements:
            criterion = judgement.criterion
            status = status_text(judgement.status.value)
            if judgement.reason:
                status.append(f": {judgement.reason}", "dim")
            unit = MEASURES[criterion.measure].unit
            table.add_row(
                name, word, criterion.measure, safe(criterion.wanted), in_words(judgement.found, unit), status
            )
            name = word = safe("")
        table.add_row("" if verdict.judgements else name, "" if verdict.judgements else word)
    console.print(table)
    if any(not verdict.judgements for verdict in verdicts):
        console.print(
            "The plan sets no criteria, so nothing can be approved: add [[criterion]] to a new plan.",
            style="yellow",
        )
    for kind in ("approved", "rejected", "undecided"):
        names = [verdict.candidate for verdict in verdicts if verdict.verdict.value == kind]
        console.print(safe("").append(status_text(kind)).append(safe(": " + (", ".join(names) or "none"))))
    for model, choice in recommended.items():
        console.print(safe(f"recommended of {model}: {choice}, the approved one that takes the least memory"))
