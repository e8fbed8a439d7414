"""``kettlefield trials``: every trial of a record, or one of them whole."""

import argparse
import difflib
import fnmatch
import json
import sys
from pathlib import Path
from typing import TYPE_CHECKING, Any

from rich.syntax import Syntax

from kettlefield.cli.commands import COMMANDS, ExitCode
from kettlefield.cli.record_argument import add_record, place_of
from kettlefield.core.as_dict import as_dict
from kettlefield.core.errors import InputError
from kettlefield.core.outcome import Outcome
from kettlefield.core.plaintext import visible
from kettlefield.core.units import format_duration
from kettlefield.record.store import Record
from kettlefield.results.rows import open_trial, trial_rows
from kettlefield.results.workspace_runs import Run, run_of_trial
from kettlefield.suite.typed_toml import nearest
from kettlefield.views.terminal import make_console, print_json, safe, show, status_text
from kettlefield.views.trials_view import trials_view
from kettlefield.views.workspace_view import turn_parts, work_line

if TYPE_CHECKING:
    from rich.console import Console


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
    add_record(parser)
    parser.add_argument("--open", type=int, metavar="ID", help="show this trial whole")
    parser.add_argument("--pictures", type=Path, metavar="FOLDER", help="with --open: put the page's pictures there")
    parser.add_argument("--only", metavar="PATTERN", help="only candidates or exercises that match")
    parser.add_argument("--outcome", help="only trials that ended so")
    parser.add_argument("--json", action="store_true", help="print one JSON document")
    parser.set_defaults(run=run)


def run(args: argparse.Namespace) -> int:
    """Print the list, or one trial."""
    record = Record.open(place_of(args))
    if args.open is not None:
        trial = open_trial(record, args.open)
        work = run_of_trial(record, args.open)
        files = _put_pictures(trial, args.pictures) if args.pictures is not None else []
        if args.json:
            print_json({"trial": {**_without_pixels(trial), "work": as_dict(work) if work else None}})
        else:
            _print_trial(make_console(), trial, work)
        for file in files:
            print(f"kettlefield: wrote {file}", file=sys.stderr)
        return ExitCode.DONE
    if args.pictures is not None:
        raise InputError("needs --open", "--pictures", "Name the trial: --open ID.")
    rows = _filtered(trial_rows(record), args.only, args.outcome)
    show(trials_view(record, rows), as_json=args.json)
    return ExitCode.DONE


def _filtered(rows: list[dict[Any, Any]], only: str | None, outcome: str | None) -> list[dict[Any, Any]]:

    known = [str(name) for name in Outcome]
    if outcome is not None and outcome not in known:
        raise InputError(f'there is no outcome "{outcome}"', "--outcome", nearest(outcome, known))
    return [
        row
        for row in rows
        if (outcome is None or row["outcome"] == outcome)
        and (only is None or any(fnmatch.fnmatchcase(row[name], only) for name in ("candidate", "exercise")))
    ]


def _put_pictures(trial: dict[str, Any], folder: Path) -> list[Path]:
    """Write the pictures of every attempt into a folder; their files."""
    pictures = [
        (folder / f"trial-{trial['id']}-attempt-{attempt['number']}-{width}.png", png)
        for attempt in trial["attempts"]
        for width, png in attempt["pictures"].items()
    ]
    if not pictures:
        raise InputError(f"trial {trial['id']} has no pictures", "--pictures", "Only pages have them.")
    try:
        folder.mkdir(parents=True, exist_ok=True)
        for path, png in pictures:
            path.write_bytes(png)
    except OSError as err:
        raise InputError(f"cannot be written ({err.strerror})", str(folder), "Name a folder of yours.") from err
    return [path for path, _ in pictures]


def _without_pixels(trial: dict[str, Any]) -> dict[str, Any]:
    """The trial as JSON: of each picture its size."""
    attempts = [
        {**attempt, "pictures": {f"{width}_bytes": len(png) for width, png in attempt["pictures"].items()}}
        for attempt in trial["attempts"]
    ]
    return {**trial, "attempts": attempts}


def _print_trial(console: "Console", trial: dict[str, Any], work: Run | None) -> None:

    head = safe(
        f"trial {trial['id']}: {trial['candidate']} on {trial['exercise_id']}, sample {trial['sample']}: ",
        "bold",
    )
    console.print(head.append(status_text(trial["outcome"])))
    if work is not None:
        _print_work(console, work)
        _print_findings(console, trial["attempts"][-1])
        return
    before: dict[str, str] = {}
    for attempt in trial["attempts"]:
        if len(trial["attempts"]) > 1:
            turn = f" (turn {attempt['turn']})" if trial["attempts"][-1]["turn"] > 1 else ""
            head = safe(f"\nattempt {attempt['number']}{turn}: ", "bold")
            console.print(head.append(status_text(attempt["outcome"])))
        _print_attempt(console, attempt, before)
        before = attempt["files"] or before


def _by(attempt: dict[str, Any]) -> str:
    return f"; graded by worker {attempt['graded_by']}" if attempt["graded_by"] else ""


_STYLES = {"said": "", "call": "yellow", "result": "dim", "failed": "red", "note": "magenta"}


def _print_work(console: "Console", work: Run) -> None:
    """A run turn by turn, then what it changed."""
    for message in work.turns[0].messages if work.turns else ():
        _section(console, f"sent ({message['role']})", str(message["content"]))
    for turn in work.turns:
        tokens = "-" if turn.prompt_tokens is None else f"{turn.prompt_tokens:,}"
        took = "" if turn.finished_s is None else f", {format_duration(turn.finished_s)}"
        console.print(safe(f"\n--- turn {turn.number}, prompt {tokens} tokens{took} ", "bold cyan"))
        for tone, text in turn_parts(turn):
            console.print(safe(text, _STYLES[tone]), soft_wrap=True)
    _print_code(console, "what it changed", "changes.diff", work.diff or "nothing\n")
    console.print(safe(work_line(work)))


def _print_attempt(console: "Console", attempt: dict[str, Any], before: dict[str, str]) -> None:
    """One attempt: what was asked and written; the answer, or what changed in it since the attempt before."""
    exchange = attempt["exchange"]
    if exchange is not None:
        # of a later attempt what is new: the rest was shown with the attempts before
        for message in exchange["messages"] if attempt["number"] == 1 else exchange["messages"][-1:]:
            _section(console, f"sent ({message['role']})", message["content"])
        if exchange["thinking"]:
            _section(console, "thinking", exchange["thinking"])
        _section(console, "reply", exchange["reply"])
    for name, text in attempt["files"].items():
        if name in before:
            _print_change(console, name, before[name], text)
        else:
            _print_code(console, f"extracted {name} ({attempt['how']}{_by(attempt)})", name, text)
    if not attempt["files"]:
        console.print(safe(f"no answer: {attempt['how']}"))
    if attempt["pictures"]:
        held = ", ".join(f"{width} {len(png):,} bytes" for width, png in attempt["pictures"].items())
        console.print(safe(f"pictures: {held}; --pictures FOLDER puts them there"))
    for remark in attempt["remarks"]:
        console.print(safe(f"remark: {remark}"))
    _print_findings(console, attempt)
    if exchange is not None:
        console.print(safe(_timings(exchange)))


def _print_findings(console: "Console", attempt: dict[str, Any]) -> None:

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


def _print_code(console: "Console", title: str, name: str, text: str) -> None:
    """A file with its syntax in colour; without colours it is the same text."""
    if console.color_system is None:
        _section(console, title, text)
        return
    console.print(safe(f"\n--- {title} ", "bold cyan"))
    shown = visible(text).rstrip("\n")
    lexer = Syntax.guess_lexer(name, shown)
    console.print(Syntax(shown, lexer, theme="ansi_dark", background_color="default", word_wrap=True))


def _print_change(console: "Console", name: str, before: str, after: str) -> None:
    """What changed in a file since the attempt before, as a unified diff."""
    lines = list(
        difflib.unified_diff(
            before.splitlines(), after.splitlines(), "the attempt before", "this attempt", lineterm="", n=3
        )
    )
    console.print(safe(f"\n--- {name}, changed since the attempt before ", "bold cyan"))
    if not lines:
        console.print("nothing changed")
    for line in lines:
        style = {"+": "green", "-": "red", "@": "cyan"}.get(line[:1], "")
        console.print(safe(line, style), soft_wrap=True)


def _section(console: "Console", title: str, text: str) -> None:

    console.print(safe(f"\n--- {title} ", "bold cyan"))
    console.print(safe(text.rstrip("\n")), soft_wrap=True)


def _timings(exchange: dict[str, Any]) -> str:

    rate = exchange["decode_tps"]
    itl = f"{format_duration(exchange['itl_p50_s'])} / {format_duration(exchange['itl_max_s'])}"
    return (
        f"\ntimings: TTFT {format_duration(exchange['ttft_s'])}, "
        f"{exchange['completion_tokens']} tokens (by {exchange['token_count']}) "
        f"at {'-' if rate is None else f'{rate:.1f}'} tokens/s, "
        f"ITL p50 / longest {itl}, end-to-end latency {format_duration(exchange['finished_s'])}, "
        f"finish reason {exchange['finish_reason']}, concurrency {exchange['concurrency']}\n"
        f"sampling sent: {json.dumps(exchange['sampling'])}"
    )
