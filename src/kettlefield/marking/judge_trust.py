"""How far a judge can be trusted: its biases, how it follows the checks, and whether its marks may be used."""

from collections.abc import Mapping, Sequence

import msgspec
import numpy as np

from kettlefield.core.statistics.estimate import Estimate
from kettlefield.marking.blind_replies import Item
from kettlefield.marking.judge_bias import Compared, follows_checks, length_bias, position_bias, same_in_both_orders
from kettlefield.marking.judge_prompt import Choice
from kettlefield.marking.marks import Agreement, agreement_between, parting_by_checks
from kettlefield.record.store import Record
from kettlefield.results.rows import JudgementRow, judgement_rows

LEAST_SHARED = 10  # replies marked by both, below which no agreement is believed
SAME_WITHIN = 1e-9  # scores that differ by less are the same


class Trust(msgspec.Struct, frozen=True, kw_only=True):
    """One judge, measured before it is believed."""

    judge: str
    asked: int
    faults: int  # answers that hold neither mark nor choice
    place: Estimate | None  # how much more often the first place wins; 0 without a lean
    length: Estimate | None  # how often the longer wins of two that the checks rate equal; 0.5 without a lean
    both_orders: Estimate | None  # how often the same one wins in either order
    follows: Estimate | None  # how often the one wins that the checks find better
    parting: Estimate | None  # how often a reply that passes is marked above one that fails
    same_again: Estimate | None  # how often the mark is the same when it is asked again
    with_people: Agreement
    marks: Mapping[str, float]  # item -> mean over the rounds


def trusts(record: Record, items: Sequence[Item], human: Mapping[str, float]) -> tuple[Trust, ...]:
    """Every judge that a record holds answers of.

    Parameters
    ----------
    record : Record
        An open record.
    items : sequence of Item
        The replies that were put to it.
    human : mapping
        Item -> mean of the human marks.
    """
    rows = tuple(judgement_rows(record))
    by_digest = {item.digest: item for item in items}
    names = dict.fromkeys(row.judge for row in rows)
    return tuple(_trust(name, [row for row in rows if row.judge == name], by_digest, human) for name in names)


def _trust(judge: str, rows: Sequence[JudgementRow], items: Mapping[str, Item], human: Mapping[str, float]) -> Trust:
    singles: dict[str, list[int]] = {}
    compared: list[Compared] = []
    orders: dict[tuple[str, str, int], Choice] = {}
    for row in rows:
        if row.value is not None:
            singles.setdefault(row.first_item, []).append(row.value)
        elif (
            row.choice is not None and row.second_item is not None and {row.first_item, row.second_item} <= items.keys()
        ):
            one, other = items[row.first_item], items[row.second_item]
            orders[one.digest, other.digest, row.round] = row.choice
            compared.append(
                Compared(
                    pair=" ".join(sorted((one.digest, other.digest))),
                    choice=row.choice,
                    longer=_which(one.length_chars, other.length_chars),
                    better=_which(one.score, other.score),
                )
            )
    both = [
        (choice, orders[other, one, number])
        for (one, other, number), choice in orders.items()
        if one < other and (other, one, number) in orders
    ]
    marks = {item: float(np.mean(values)) for item, values in singles.items()}
    return Trust(
        judge=judge,
        asked=len(rows),
        faults=sum(bool(row.fault) for row in rows),
        place=position_bias(compared),
        length=length_bias(compared),
        both_orders=same_in_both_orders(both),
        follows=follows_checks(compared),
        parting=parting_by_checks(list(items.values()), marks),
        same_again=same_in_both_orders(_again(singles)),
        with_people=agreement_between(judge, "people", marks, human),
        marks=marks,
    )


def _which(one: float, other: float) -> Choice:
    if abs(one - other) < SAME_WITHIN:
        return "equal"
    return "first" if one > other else "second"


def _again(singles: Mapping[str, Sequence[int]]) -> list[tuple[Choice, Choice]]:
    """Marks of the same reply in two rounds, as pairs that agree or do not."""
    pairs = [(values[0], later) for values in singles.values() for later in values[1:]]
    return [("equal", "equal") if one == later else ("first", "first") for one, later in pairs]


def why_not_used(trust: Trust, wanted: float) -> str:
    """Why a judge's marks are shown and not used; empty when they may be used.

    The lower end of its agreement with people must clear what the plan wants: without people's marks on the
    same replies, nothing does.
    """
    kappa, both = trust.with_people.kappa, trust.with_people.both
    if kappa is None or both < LEAST_SHARED:
        return (
            f"people marked {both} of the same replies, {LEAST_SHARED} are needed: its agreement with them is unknown"
        )
    if kappa.low is None or kappa.low < wanted:
        low = f"{kappa.low:.2f}" if kappa.low is not None else "nothing"
        return f"agreement with people is at least {low} only (kappa {kappa.value:.2f}), wanted {wanted:.2f}"
    return ""
