"""``kettlefield decide``: the criteria one by one, and the verdict."""

import argparse
from pathlib import Path
from typing import TYPE_CHECKING, Any

from rich.padding import Padding

from kettlefield.cli.commands import COMMANDS
from kettlefield.cli.console import (
    estimate_json,
    make_console,
    make_table,
    print_json,
    print_not_measured,
    print_table,
    safe,
    status_text,
)
from kettlefield.cli.exits import exit_code_of
from kettlefield.cli.signing import show_audit, sign_record
from kettlefield.cli.still_valid import show_still_valid
from kettlefield.core.errors import InputError
from kettlefield.core.measures import MEASURES
from kettlefield.core.statistics.estimate import in_words
from kettlefield.decision.verdict import overall
from kettlefield.plan.criteria import terms_of_text
from kettlefield.plan.evaluation import decide
from kettlefield.record.store import Record
from kettlefield.results.frames import not_measured
from kettlefield.suite.typed_toml import nearest, read_text

if TYPE_CHECKING:
    from rich.console import Console

    from kettlefield.decision.verdict import CandidateVerdict, Decision


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
    parser.add_argument("record", type=Path)
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
    ways.add_argument("--audit", action="store_true", help="was anything in the record changed since it was signed?")
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
    if args.audit:
        return show_audit(args.record, args.allowed_signers, as_json=args.json)
    if args.still_valid:
        return show_still_valid(args.record, args.candidate, as_json=args.json)
    if args.by is not None:
        sign_record(args.record, args.by, args.note or "", args.ssh_key)
    return show_verdicts(args.record, args.candidate, as_json=args.json, changed_plan=args.plan)


def _check_options(args: argparse.Namespace) -> None:

    for name in ("note", "ssh_key"):
        if getattr(args, name) is not None and args.by is None:
            option = f"--{name.replace('_', '-')}"
            raise InputError("stands without a name", option, "Write --by NAME: a person signs.")
    if args.allowed_signers is not None and not args.audit:
        raise InputError("stands without --audit", "--allowed-signers", "It says whose signature --audit accepts.")
    if args.by is not None and (args.audit or args.still_valid):
        raise InputError("does not go with --audit or --still-valid", "--by", "Sign first, then check.")


def show_verdicts(path: Path, only: str | None, *, as_json: bool, changed_plan: Path | None = None) -> int:
    """Print the verdicts of a record; the exit code that they call for."""
    record = Record.open(path)
    decision = decide(record)
    changed = None
    if changed_plan is not None:
        changed = decide(record, terms=terms_of_text(read_text(changed_plan), changed_plan))
    verdicts = decision.verdicts
    if only is not None:
        names = [verdict.candidate for verdict in verdicts]
        verdicts = tuple(verdict for verdict in verdicts if verdict.candidate == only)
        if not verdicts:
            raise InputError(f'there is no candidate "{only}"', str(path), nearest(only, names))
    if as_json:
        print_json(
            {
                "simulated": decision.simulated,
                "verdicts": [_as_json(one, decision.conditions[one.candidate]) for one in verdicts],
                "recommended": decision.recommended,
                "why_recommended": decision.why_recommended,
                "not_measured": not_measured(record),
                "changed_criteria": _changed_json(changed, verdicts) if changed is not None else None,
            }
        )
    else:
        _print(decision, verdicts)
        print_not_measured(make_console(), not_measured(record))
        if changed is not None:
            _print_changed(decision, changed, verdicts)
    return exit_code_of(overall(verdicts))


def _as_json(verdict: "CandidateVerdict", conditions: tuple[str, ...]) -> dict[str, Any]:

    return {
        "candidate": verdict.candidate,
        "verdict": verdict.verdict.value,
        "conditions": conditions,
        "criteria": [
            {
                "measure": judgement.criterion.measure,
                "among": dict(judgement.criterion.among),
                "at_depth_tokens": judgement.criterion.at_depth_tokens,
                "outcomes": judgement.criterion.outcomes,
                "wanted": judgement.criterion.wanted,
                "found": estimate_json(judgement.found),
                "status": judgement.status.value,
                "reason": judgement.reason,
            }
            for judgement in verdict.judgements
        ],
    }


def _changed_json(changed: "Decision", verdicts: "tuple[CandidateVerdict, ...]") -> list[dict[str, Any]]:
    found = [one for one in changed.verdicts if one.candidate in {mine.candidate for mine in verdicts}]
    return [_as_json(one, changed.conditions[one.candidate]) for one in found]


def _print(decision: "Decision", verdicts: "tuple[CandidateVerdict, ...]") -> None:

    console = make_console()
    if decision.simulated:
        console.print("SIMULATED: no real model was measured", style="yellow")
    _print_criteria(console, verdicts)
    if any(not verdict.judgements for verdict in verdicts):
        console.print(
            "The plan sets no criteria, so nothing can be approved: add [[criterion]] to a new plan.",
            style="yellow",
        )
    for kind in ("approved", "rejected", "undecided"):
        names = [verdict.candidate for verdict in verdicts if verdict.verdict.value == kind]
        console.print(safe("").append(status_text(kind)).append(safe(": " + (", ".join(names) or "none"))))
    shown = {verdict.candidate for verdict in verdicts}
    for model, choice in decision.recommended.items():
        if choice not in shown:
            continue
        console.print(safe(f"recommended of {model}: {choice}: {decision.why_recommended[model]}"))
        for condition in decision.conditions[choice]:
            console.print(safe(f"  condition: {condition}"))
    baselines = [row.candidate for row in decision.table.rows if row.baseline]
    if baselines:
        console.print(safe(f"a baseline, not up for approval: {', '.join(baselines)}"))


def _print_criteria(console: "Console", verdicts: "tuple[CandidateVerdict, ...]") -> None:
    """Criterion by criterion: in a table where there is room, else a few lines each."""
    if console.width >= ROOM_FOR_TABLE:
        _print_criteria_table(console, verdicts)
        return
    for verdict in verdicts:
        console.print(safe(verdict.candidate, "bold").append("  ").append(status_text(verdict.verdict.value)))
        for judgement in verdict.judgements:
            criterion = judgement.criterion
            line = safe(f"  {criterion.label} {criterion.wanted}: ").append(status_text(judgement.status.value))
            console.print(line)
            found = in_words(judgement.found, MEASURES[criterion.measure].unit)
            console.print(Padding(safe(f"found {found}", "dim"), (0, 0, 0, 4)))
            if judgement.reason:
                console.print(Padding(safe(judgement.reason, "dim"), (0, 0, 0, 4)))
        console.print()


def _print_criteria_table(console: "Console", verdicts: "tuple[CandidateVerdict, ...]") -> None:

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
            found = in_words(judgement.found, MEASURES[criterion.measure].unit)
            table.add_row(name, word, safe(criterion.label), safe(criterion.wanted), safe(found), status)
            name = word = safe("")
        table.add_row("" if verdict.judgements else name, "" if verdict.judgements else word)
    console.print(table)


def _print_changed(decision: "Decision", changed: "Decision", verdicts: "tuple[CandidateVerdict, ...]") -> None:
    """The criteria of a plan that was changed after the campaign began: shown, never decided by."""
    console = make_console()
    shown = [one for one in verdicts if changed.of(one.candidate) is not None]
    if changed.criteria == decision.criteria:
        console.print("\nThe criteria of that plan are those that the campaign began with.")
        return
    console.print(
        "\nCRITERIA CHANGED after the campaign began, when results could be seen. What they say now decides nothing:",
        style="yellow",
    )
    _print_criteria(console, tuple(found for one in shown if (found := changed.of(one.candidate)) is not None))
    table = make_table("candidate", "as it began", "as changed")
    for one in shown:
        found = changed.of(one.candidate)
        if found is not None:
            table.add_row(safe(one.candidate), status_text(one.verdict.value), status_text(found.verdict.value))
    print_table(console, table)
