"""``kettlefield trials``: every trial of a record, or one of them whole."""

import argparse
from pathlib import Path
from typing import TYPE_CHECKING, Any

from kettlefield.cli.commands import COMMANDS
from kettlefield.cli.exits import ExitCode

if TYPE_CHECKING:
    from rich.console import Console

_JSON_FIELDS = [
    "id",
    "candidate",
    "exercise",
    "sample",
    "seed",
    "outcome",
    "score",
    "attempts",
    "first_token_s",
    "decode_rate_tps",
    "completion_tokens",
    "finish_reason",
    "in_flight",
    "finished_s",
]


def add_parser(commands: "argparse._SubParsersAction[argparse.ArgumentParser]") -> None:
    """Add this command."""
    parser = commands.add_parser(
        "trials",
        help=COMMANDS["trials"],
        description="List the trials of a record, or show one of them whole: what was asked, what the model wrote,\n"
        "what was extracted, what each check found, and what changed from one attempt to the next.",
        epilog="examples:\n  kettlefield trials record.db --outcome wrong-answer\n"
        "  kettlefield trials record.db --open 17",
        formatter_class=argparse.RawDescriptionHelpFormatter,
    )
    parser.add_argument("record", type=Path)
    parser.add_argument("--open", type=int, metavar="ID", help="show this trial whole")
    parser.add_argument("--only", metavar="PATTERN", help="only candidates or exercises that match")
    parser.add_argument("--outcome", help="only trials that ended so")
    parser.add_argument("--json", action="store_true", help="print one JSON document")
    parser.set_defaults(run=run)


def run(args: argparse.Namespace) -> int:
    """Print the list, or one trial."""
    from kettlefield.analysis.frames import open_trial, trials_frame  # noqa: PLC0415 - pandas takes half a second
    from kettlefield.cli.console import make_console, print_json  # noqa: PLC0415
    from kettlefield.record.store import Record  # noqa: PLC0415

    record = Record.open(args.record)
    if args.open is not None:
        trial = open_trial(record, args.open)
        if args.json:
            print_json({"trial": trial})
        else:
            _print_trial(make_console(), trial)
        return ExitCode.DONE
    rows = _filtered(trials_frame(record).to_dict("records"), args.only, args.outcome)
    if args.json:
        print_json({"trials": [{name: _plain(row[name]) for name in _JSON_FIELDS} for row in rows]})
    else:
        _print_list(make_console(), rows)
    return ExitCode.DONE


def _filtered(rows: list[dict[Any, Any]], only: str | None, outcome: str | None) -> list[dict[Any, Any]]:
    import fnmatch  # noqa: PLC0415

    from kettlefield.core.errors import InputError  # noqa: PLC0415
    from kettlefield.core.outcome import Outcome  # noqa: PLC0415
    from kettlefield.suite.toml_struct import nearest  # noqa: PLC0415

    known = [str(name) for name in Outcome]
    if outcome is not None and outcome not in known:
        raise InputError(f'there is no outcome "{outcome}"', "--outcome", nearest(outcome, known))
    return [
        row
        for row in rows
        if (outcome is None or row["outcome"] == outcome)
        and (only is None or any(fnmatch.fnmatchcase(row[name], only) for name in ("candidate", "exercise")))
    ]


def _plain(value: Any) -> Any:
    """A frame's value as JSON knows it: NaN stands for what was not measured."""
    import pandas as pd  # noqa: PLC0415

    if pd.isna(value):
        return None
    return int(value) if isinstance(value, float) and value.is_integer() and abs(value) < 2**53 else value


def _print_list(console: "Console", rows: list[dict[Any, Any]]) -> None:
    from kettlefield.cli.console import make_table, print_table, safe, status_text  # noqa: PLC0415
    from kettlefield.core.units import format_duration  # noqa: PLC0415

    table = make_table(
        ">id",
        "candidate",
        "exercise",
        ">sample",
        "outcome",
        ">score",
        ">tokens",
        ">first token",
        ">tokens/s",
        ">at once",
    )
    for row in rows:
        first, rate, tokens = (_plain(row[name]) for name in ("first_token_s", "decode_rate_tps", "completion_tokens"))
        table.add_row(
            str(row["id"]),
            safe(row["candidate"]),
            safe(row["exercise"]),
            str(row["sample"]),
            status_text(row["outcome"]),
            f"{row['score']:.2f}",
            "-" if tokens is None else str(tokens),
            format_duration(first),
            "-" if rate is None else f"{rate:.0f}",
            str(_plain(row["in_flight"]) or "-"),
        )
    print_table(console, table)
    console.print(f"{len(rows)} trials; --open ID shows one whole", style="dim")


def _print_trial(console: "Console", trial: dict[str, Any]) -> None:
    from kettlefield.cli.console import safe, status_text  # noqa: PLC0415

    head = safe(
        f"trial {trial['id']}: {trial['candidate']} on {trial['exercise_id']}, sample {trial['sample']}: ",
        "bold",
    )
    console.print(head.append(status_text(trial["outcome"])))
    for attempt in trial["attempts"]:
        if len(trial["attempts"]) > 1:
            turn = f" (turn {attempt['turn']})" if trial["attempts"][-1]["turn"] > 1 else ""
            head = safe(f"\nattempt {attempt['number']}{turn}: ", "bold")
            console.print(head.append(status_text(attempt["outcome"])))
        _print_attempt(console, attempt)


def _print_attempt(console: "Console", attempt: dict[str, Any]) -> None:
    from kettlefield.cli.console import safe, status_text  # noqa: PLC0415

    exchange = attempt["exchange"]
    if exchange is not None:
        for message in exchange["messages"]:
            _section(console, f"sent ({message['role']})", message["content"])
        if exchange["thinking"]:
            _section(console, "thinking", exchange["thinking"])
        _section(console, "reply", exchange["reply"])
    for name, text in attempt["files"].items():
        _section(console, f"extracted {name} ({attempt['how']})", text)
    if not attempt["files"]:
        console.print(safe(f"no answer: {attempt['how']}"))
    for remark in attempt["remarks"]:
        console.print(safe(f"remark: {remark}"))
    if attempt["fault"]:
        console.print(safe(f"fault: {attempt['fault']}", "magenta"))
    for check in attempt["checks"]:
        line = safe(
            f"check {check['name']} ({check['kind']}): {check['cases_passed']} of {check['cases_total']} cases, "
        )
        ended = check["end"] if check["end"] != "finished" else "not all as expected"
        line.append(status_text("passed" if check["passed"] else ended))
        console.print(line)
        if check["detail"]:
            console.print(safe(f"  {check['detail']}"), soft_wrap=True)
    if exchange is not None:
        console.print(safe(_timings(exchange)))


def _section(console: "Console", title: str, text: str) -> None:
    from kettlefield.cli.console import safe  # noqa: PLC0415

    console.print(safe(f"\n--- {title} ", "bold cyan"))
    console.print(safe(text.rstrip("\n")), soft_wrap=True)


def _timings(exchange: dict[str, Any]) -> str:
    from kettlefield.core.units import format_duration  # noqa: PLC0415

    rate = exchange["decode_rate_tps"]
    gaps = f"{format_duration(exchange['gap_p50_s'])} / {format_duration(exchange['gap_max_s'])}"
    return (
        f"\ntimings: first token {format_duration(exchange['first_token_s'])}, "
        f"{exchange['completion_tokens']} tokens (by {exchange['token_count']}) "
        f"at {'-' if rate is None else f'{rate:.1f}'} tokens/s, "
        f"gaps p50 / longest {gaps}, whole reply {format_duration(exchange['finished_s'])}, "
        f"finish reason {exchange['finish_reason']}, {exchange['in_flight']} in flight\n"
        f"sampling sent: {exchange['sampling']}"
    )
