"""An old record and a new one: what changed, which figures moved by more than noise, which criteria flipped."""

from collections.abc import Mapping, Sequence
from typing import Any

from kettlefield.core.errors import InputError
from kettlefield.core.plaintext import shorten
from kettlefield.core.statistics.estimate import Estimate
from kettlefield.core.values import Change
from kettlefield.decision.record_comparison import PLAIN_MOVES, RUN_TO_RUN, Between, Move, between
from kettlefield.decision.verdict import Decision
from kettlefield.plan.criteria import decide
from kettlefield.record.place import Place
from kettlefield.record.store import Record
from kettlefield.results.frames import campaign_facts
from kettlefield.views.table import Align, Column, Table, View, Words, chosen, estimate_json, present, table, words

WIDEST = 72  # characters of a value: a SHA-256 is shown whole


def record_views(places: Sequence[Place], only: str | None = None) -> list[View]:
    """Each further record compared with the first.

    Raises
    ------
    InputError
        Two share no candidate.
    """
    old = Record.open(places[0])
    before = decide(old)
    return [_view(old, before, place, only) for place in places[1:]]


def _view(old: Record, before: Decision, place: Place, only: str | None) -> View:
    new = Record.open(place)
    every = between(old, new, (before.verdicts, decide(new).verdicts))
    if not every:
        raise InputError(
            f"shares no candidate with {old.place}", str(new.place), "Name records of the same candidates."
        )
    rows = chosen(every, only)
    simulated = any(campaign_facts(record)["simulated"] for record in (old, new))
    moved = [f"{one.candidate} {move.figure}" for one in rows for move in one.moves if move.moved]
    changes = changes_table({one.candidate: one.changes for one in rows})
    return View(
        title=f"{old.place} and {new.place}",
        simulated=simulated,
        parts=present(
            verdicts_table(rows),
            changes or Words(text="Nothing changed: rig, servers, weights, settings and suite are as they were."),
            moves_table(rows),
            Words(text=f"moved (!): {', '.join(moved) or 'nothing'}", tone="warning" if moved else "plain"),
            *(
                Words(text=f"! {one.candidate}: not compared: {text}", tone="warning")
                for one in rows
                for text in one.not_compared
            ),
            flips_table(rows) or Words(text="No criterion of any candidate in both records changed its status."),
        ),
        document={
            "old": str(old.place),
            "new": str(new.place),
            "simulated": simulated,
            "candidates": [_document(one) for one in rows],
        },
    )


def comparison_sentence(view: View) -> str:
    """What a comparison of two records comes to, in one sentence."""
    rows = view.document["candidates"]
    changes, flips = sum(bool(one["changes"]) for one in rows), sum(len(one["flips"]) for one in rows)
    moved = sum(figure["moved"] for one in rows for figure in one["figures"])
    figures = sum(len(one["figures"]) for one in rows)
    what = (
        f"of {changes} of {len(rows)} candidates something changed"
        if changes
        else "the same rig, servers, weights and suite"
    )
    return (
        f"{view.document['new']}: {what}; {moved} of {figures} figures moved by more than noise, "
        f"{flips} criteria changed their status."
    )


def changes_table(by_candidate: Mapping[str, Sequence[Change]]) -> Table | None:
    """The changes of every candidate; what all share stands once."""
    holders: dict[Change, list[str]] = {}
    for name, changes in by_candidate.items():
        for change in changes:
            holders.setdefault(change, []).append(name)
    return table(
        "What changed",
        [words("changed"), words("then"), words("now"), words("of")],
        [
            (
                change.what,
                shorten(change.then, WIDEST),
                shorten(change.now, WIDEST),
                "all" if len(names) == len(by_candidate) else ", ".join(names),
            )
            for change, names in holders.items()
        ],
    )


def changes_json(changes: Sequence[Change]) -> list[dict[str, str]]:
    """Changes as the JSON contract writes them."""
    return [{"what": change.what, "then": change.then, "now": change.now} for change in changes]


def verdicts_table(rows: Sequence[Between]) -> Table | None:
    """The verdict on each candidate by either record."""
    return table(
        "Verdicts",
        [words("candidate"), words("then"), words("now")],
        [(one.candidate, one.then, one.now) for one in rows],
    )


def flips_table(rows: Sequence[Between]) -> Table | None:
    """Every criterion whose status is another now."""
    return table(
        "Criteria that changed their status",
        [words("candidate"), words("criterion"), words("then"), words("now")],
        [
            (
                one.candidate,
                f"{flip.criterion} {flip.wanted}",
                *(side or "no such criterion" for side in (flip.then, flip.now)),
            )
            for one in rows
            for flip in one.flips
        ],
    )


def moves_table(rows: Sequence[Between]) -> Table | None:
    """One row a candidate, one column a figure: how it moved, marked where by more than noise."""
    figures = list(dict.fromkeys(move.figure for one in rows for move in one.moves))
    return table(
        "How figures moved",
        [words("candidate"), *(Column(name=name, align=Align.RIGHT, show=_move) for name in figures)],
        [(one.candidate, *({m.figure: m for m in one.moves}.get(name) for name in figures)) for one in rows],
        note="pass_rate: difference on the same exercises and samples; others: the new over the old, with 95 % "
        "intervals. "
        f"!: the interval lies clear of no change, of a ratio by more than {RUN_TO_RUN:.0%}; of single measurements "
        "memory "
        f"differs by more than {PLAIN_MOVES['peak_bytes']:.0%}, load by more than {PLAIN_MOVES['load_s']:.0%}.",
    )


def _move(move: Move) -> str:
    show = "{:+.2f}".format if move.unit == "difference" else "{:.3f}".format
    mark = " !" if move.moved else ""
    if not isinstance(move.change, Estimate):
        return show(move.change) + mark
    low, high = ("?" if bound is None else show(bound) for bound in (move.change.low, move.change.high))
    return f"{show(move.change.value)} ({low} to {high}){mark}"


def _document(one: Between) -> dict[str, Any]:
    return {
        "candidate": one.candidate,
        "verdict": {"then": one.then, "now": one.now},
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
