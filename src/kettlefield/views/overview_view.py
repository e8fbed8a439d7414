"""Candidates side by side in 100 columns: the figures that most decisions rest on, and what they show."""

import msgspec
import pandas as pd

from kettlefield.core.statistics.estimate import Estimate
from kettlefield.record.store import Record
from kettlefield.results.capacity import Floor, floor_of
from kettlefield.results.comparison import QUANTILES, Comparison, Figures, compare, ends_of_scale
from kettlefield.results.frames import notes
from kettlefield.results.paired_comparison import mixed_settings
from kettlefield.results.rows import not_measured
from kettlefield.views.comparison_view import AT_LOOKS, MARKS, comparison_document, discordant_table
from kettlefield.views.figures.findings import losses
from kettlefield.views.table import (
    Table,
    View,
    Words,
    candidate_text,
    chosen,
    duration,
    present,
    rate,
    share,
    signed,
    size,
    table,
    words,
)


def overview_view(
    record: Record,
    only: str | None = None,
    *,
    against: str | None = None,
    pairs: bool = False,
    with_notes: bool = False,
) -> View:
    """One table of a record's candidates, and a line of what it shows.

    Parameters
    ----------
    record, only, against, pairs
        As for ``comparison_view``, whose JSON document this one is too.
    with_notes : bool
        What the figures mean, and what was noted while they were measured; else how many notes there are.

    Raises
    ------
    InputError
        No campaign was begun, or a name or pattern matches nothing.
    """
    compared = compare(record, reference=against)
    compared = msgspec.structs.replace(compared, rows=tuple(chosen(compared.rows, only)))
    mixed = mixed_settings(record)
    said = [f"{row.candidate}: {mixed[row.candidate]}" for row in compared.rows if row.candidate in mixed]
    missing = not_measured(record)
    said += [text for text in notes(record) if text not in missing]
    return View(
        title=compared.title,
        simulated=compared.simulated,
        parts=present(
            Words(text=f"suite {compared.suite} ({compared.suite_digest[:19]}), {compared.exercises} exercises"),
            overview_table(compared, floor_of(record), against=against, with_notes=with_notes),
            discordant_table(compared.rows) if pairs else None,
            *(Words(text=text, tone="warning") for text in ends_of_scale(compared.rows)),
            *(Words(text=f"! {text}", tone="warning") for text in missing),
            _disturbed(compared),
            _finding(compared),
            *(Words(text=f"! {text}", tone="warning") for text in said if with_notes),
            None if with_notes else _more(len(said)),
        ),
        document=comparison_document(record, compared),
    )


def overview_table(compared: Comparison, floor: Floor, *, against: str | None, with_notes: bool) -> Table | None:
    """The figures that most decisions rest on, one row a candidate."""
    return table(
        "Candidates side by side",
        [
            words("candidate"),
            share("pass rate"),
            signed(f"to {against or 'reference'}"),
            duration("TTFT p95", floor.show),
            rate("decode p50"),
            size("peak memory"),
        ],
        [
            (
                candidate_text(row),
                row.pass_rate,
                row.difference(),
                _middle(row, "ttft_s.p95"),
                _middle(row, "decode_tps.p50"),
                row.peak_bytes,
            )
            for row in compared.rows
        ],
        note=_meaning(compared) if with_notes else "",
    )


def _meaning(compared: Comparison) -> str:
    return (
        f"{MARKS} Pass rate and its difference to the reference level, on the same exercises, with 95 % intervals. "
        "TTFT and decode rate: one request at a time. Peak memory: the server's host share (PSS) and accelerator "
        "memory together. Faults of server and rig count against nobody."
        + (f" {AT_LOOKS}" if any(row.looks for row in compared.rows) else "")
    )


def _middle(row: Figures, name: str) -> float | str | None:
    """A quantile without its interval, or why it is none."""
    if doubt := row.doubts.get(QUANTILES[name][0]):
        return doubt.partition(":")[0]
    estimate = row.quantile(name, confidence=0.95)
    return estimate.value if estimate is not None else None


def _disturbed(compared: Comparison) -> Words | None:
    """On whom the host was busy with something else, so that requests were left out."""
    named = [f"{row.candidate} ({row.disturbed})" for row in compared.rows if row.disturbed]
    if not named:
        return None
    text = f"disturbed requests, which are left out: {', '.join(named)}; qualify PLAN --again speed repeats them"
    return Words(text=text, tone="warning")


def _finding(compared: Comparison) -> Words | None:
    """Which levels are shown to differ from what they are compared with, and what is not excluded of the others."""
    known = [(row.candidate, found) for row in compared.rows if isinstance(found := row.difference(), Estimate)]
    bounded = [(name, one) for name, one in known if one.low is not None and one.high is not None]
    if not bounded:
        return None
    frame = pd.DataFrame(
        [(name, one.value, one.low, one.high) for name, one in bounded],
        columns=["candidate", "difference", "low", "high"],
    )
    return Words(text=losses(frame), tone="strong")


def _more(noted: int) -> Words:
    if not noted:
        return Words(text="--wide: every table and column; --notes: what the figures mean", tone="small")
    what = "1 note" if noted == 1 else f"{noted} notes"
    return Words(text=f"! {what} on what was measured and how: --notes; every table and column: --wide", tone="warning")
