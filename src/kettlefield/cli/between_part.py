"""``kettlefield compare OLD NEW``: what changed, which figures moved by more than noise, which criteria flipped."""

from collections.abc import Sequence
from pathlib import Path
from typing import Any

from kettlefield.cli.changes import changes_json, print_changes
from kettlefield.cli.console import (
    chosen,
    estimate_json,
    make_console,
    make_table,
    print_heading,
    print_json,
    print_note,
    print_table,
    safe,
)
from kettlefield.core.errors import InputError
from kettlefield.core.statistics.estimate import Estimate
from kettlefield.decision.record_comparison import PLAIN_MOVES, RUN_TO_RUN, Between, Move, between
from kettlefield.plan.evaluation import decide
from kettlefield.record.store import Record
from kettlefield.results.frames import campaign_facts


def show_between(paths: Sequence[Path], only: str | None, *, as_json: bool) -> None:
    """Hold each further record against the first, and print it."""
    old = Record.open(paths[0])
    console, documents = make_console(), []
    for path in paths[1:]:
        new = Record.open(path)
        found = between(old, new, (decide(old).verdicts, decide(new).verdicts))
        if not found:
            raise InputError(f"shares no candidate with {paths[0]}", str(path), "Name records of the same candidates.")
        found = tuple(chosen(found, only))
        simulated = any(campaign_facts(record)["simulated"] for record in (old, new))
        if as_json:
            document = {"old": str(paths[0]), "new": str(path), "simulated": simulated}
            documents.append({**document, "candidates": [_as_json(one) for one in found]})
            continue
        print_heading(console, f"{paths[0]} and {path}", simulated=simulated)
        if not print_changes(console, {one.candidate: one.changes for one in found}):
            console.print("Nothing changed: rig, servers, weights, settings and suite are as they were.")
        _print_moves(console, found)
        for one in found:
            for flip in one.flips:
                words = f"{flip.criterion} {flip.wanted}: {flip.then or 'no such criterion'} before, "
                console.print(safe(f"! {one.candidate}: {words}{flip.now or 'no such criterion'} now", "yellow"))
        if not any(one.flips for one in found):
            console.print("No criterion of any candidate in both records changed its status.")
    if as_json:
        print_json({"comparisons": documents})


def _as_json(one: Between) -> dict[str, Any]:

    return {
        "candidate": one.candidate,
        "changes": changes_json(one.changes),
        "figures": [
            {"figure": move.figure, "unit": move.unit, "change": estimate_json(move.change), "moved": move.moved}
            for move in one.moves
        ],
        "not_compared": one.not_compared,
        "flips": [
            {"criterion": flip.criterion, "wanted": flip.wanted, "then": flip.then, "now": flip.now}
            for flip in one.flips
        ],
    }


def _print_moves(console: Any, found: Sequence[Between]) -> None:
    """One row a candidate, one column a figure: how it moved, marked where by more than noise."""
    figures = list(dict.fromkeys(move.figure for one in found for move in one.moves))
    table = make_table("candidate", *(f">{figure}" for figure in figures))
    for one in found:
        cells = {move.figure: _cell(move) for move in one.moves}
        table.add_row(safe(one.candidate), *(safe(cells.get(figure, "-")) for figure in figures))
    print_table(console, table)
    moved = [f"{one.candidate} {move.figure}" for one in found for move in one.moves if move.moved]
    console.print(safe(f"moved (!): {', '.join(moved) or 'nothing'}", "yellow" if moved else ""))
    print_note(
        console,
        "pass_rate: difference on the same exercises and samples; others: the new over the old, with 95 % intervals.\n"
        f"!: the interval lies clear of no change, of a ratio by more than {RUN_TO_RUN:.0%}; of single measurements\n"
        f"memory differs by more than {PLAIN_MOVES['peak_bytes']:.0%}, load by more than {PLAIN_MOVES['load_s']:.0%}.",
    )
    for one in found:
        for words in one.not_compared:
            console.print(safe(f"! {one.candidate}: not compared: {words}", "yellow"))


def _cell(move: Move) -> str:

    show = "{:+.2f}".format if move.unit == "difference" else "{:.3f}".format
    mark = " !" if move.moved else ""
    if not isinstance(move.change, Estimate):
        return show(move.change) + mark
    low, high = ("?" if bound is None else show(bound) for bound in (move.change.low, move.change.high))
    return f"{show(move.change.value)} ({low} to {high}){mark}"
