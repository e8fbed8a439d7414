"""Which level on which machine: the verdicts of a campaign on several rigs as a matrix, and what each rig measured."""

from collections.abc import Mapping

from kettlefield.core.units import format_bytes
from kettlefield.decision.verdict import Decision
from kettlefield.plan.criteria import decide
from kettlefield.record.store import Record
from kettlefield.results.comparison import Figures
from kettlefield.results.rig_rows import RigRow, rig_rows, toolchains_that_differ
from kettlefield.results.shared_answers import shared_answers
from kettlefield.views.criteria_view import deciding_words
from kettlefield.views.table import (
    Table,
    View,
    Words,
    chosen,
    estimate_json,
    number,
    present,
    rate,
    share,
    size,
    table,
    words,
)

SECONDS_AN_HOUR = 3600.0


def rigs_view(record: Record, only: str | None = None) -> View:
    """The rigs of a campaign side by side."""
    decision, rigs = decide(record), rig_rows(record)
    one = "This campaign has one rig. [[rig]] tables in a plan name several."
    return View(
        title=decision.title,
        simulated=decision.simulated,
        parts=present(*rig_parts(record, decision, only)) if rigs else (Words(text=one),),
        document={
            "simulated": decision.simulated,
            "rigs": [_document(rig, decision) for rig in rigs],
            "toolchains_that_differ": toolchains_that_differ(record),
        },
    )


def rig_parts(record: Record, decision: Decision, only: str | None = None) -> tuple[Table | Words | None, ...]:
    """The tables of the rigs; nothing where a campaign has one."""
    rigs = rig_rows(record)
    if not rigs:
        return ()
    return (
        verdict_matrix(decision, rigs),
        _measured(decision, rigs, only),
        _shared(record),
        _machines(rigs),
        *(
            Words(
                text=f"! {language} is not the same on all rigs: "
                + ", ".join(f"{version} on {rig}" for rig, version in versions.items()),
                tone="warning",
            )
            for language, versions in toolchains_that_differ(record).items()
        ),
    )


def verdict_matrix(decision: Decision, rigs: tuple[RigRow, ...]) -> Table | None:
    """A candidate in a row, a rig in a column: the verdict and what decided it."""
    verdicts = {verdict.candidate: verdict for verdict in decision.verdicts}
    figures = {row.candidate: row for row in decision.table.rows}
    recommended = set(decision.recommended.values())
    plain = list(dict.fromkeys(rig.plain(name) for rig in rigs for name in rig.candidates))
    rows = []
    for name in plain:
        cells = []
        for rig in rigs:
            full = f"{name} on {rig.name}"
            verdict = verdicts.get(full)
            if verdict is None:
                cells.append("baseline" if full in figures else None)
                continue
            cells.append(deciding_words(verdict, figures[full]) + (" (recommended)" if full in recommended else ""))
        rows.append((name, *cells))
    return table(
        "Which level on which rig",
        [words("candidate"), *(words(rig.name) for rig in rigs)],
        rows,
        note="Each with what decided it, its interval in `decide`; a dash: it did not run there. Recommended: of the "
        "approved levels of a model the one with the least peak memory on that rig.",
    )


def cost_per_solved(row: Figures, rig: RigRow) -> float | None:
    """What a solved exercise costs on a rig, in the plan's currency: its share of the rig's time at its concurrency."""
    if rig.cost_per_hour is None or not row.seconds_per_solved:
        return None
    return row.seconds_per_solved / max(row.concurrency, 1) / SECONDS_AN_HOUR * rig.cost_per_hour


def _measured(decision: Decision, rigs: tuple[RigRow, ...], only: str | None) -> Table | None:
    by_name: Mapping[str, tuple[str, RigRow]] = {
        name: (rig.plain(name), rig) for rig in rigs for name in rig.candidates
    }
    shown = [row for row in chosen(decision.table.rows, only) if row.candidate in by_name]
    plain, names = list(dict.fromkeys(rig.plain(n) for rig in rigs for n in rig.candidates)), [rig.name for rig in rigs]
    shown.sort(key=lambda row: (plain.index(by_name[row.candidate][0]), names.index(by_name[row.candidate][1].name)))
    rows = []
    for row in shown:
        name, rig = by_name[row.candidate]
        rows.append(
            (
                name,
                rig.name,
                row.pass_rate.value if row.pass_rate is not None else None,
                _middle(row, "ttft_s.p95"),
                _middle(row, "decode_tps.p50"),
                row.peak_bytes,
                rig.memory_budget_bytes,
                row.seconds_per_solved or None,
                cost * 1000 if (cost := cost_per_solved(row, rig)) is not None else None,
            )
        )
    return table(
        "By rig",
        [
            words("candidate", once=True),
            words("rig"),
            share("pass rate"),
            number("TTFT p95", "s"),
            rate("decode p50"),
            size("peak memory"),
            size("budget"),
            number("s/solved"),
            number("cost/1,000 solved"),
        ],
        rows,
        note="Cost: request time of all trials over those solved, divided by the requests in flight at once, at the "
        "rig's cost_per_hour. Intervals: `compare` without --part.",
    )


def _shared(record: Record) -> Words | None:
    """Which candidates were not asked themselves."""
    takers: dict[str, list[str]] = {}
    for own, other in shared_answers(record).items():
        takers.setdefault(other, []).append(own.rpartition(" on ")[2])
    lines = [f"{other} was asked for {' and '.join(rigs)} too" for other, rigs in takers.items()]
    if not lines:
        return None
    return Words(text=f"Answers are shared where weights, settings and libraries are the same: {'; '.join(lines)}.")


def _middle(row: Figures, name: str) -> float | None:
    estimate = row.quantile(name, confidence=0.95)
    return estimate.value if estimate is not None else None


def _machines(rigs: tuple[RigRow, ...]) -> Table | None:
    rows = []
    for rig in rigs:
        host, card = rig.facts.get("host", {}), rig.facts.get("accelerator")
        rows.append(
            (
                rig.name,
                str(host.get("cpu", "?")),
                host.get("memory_bytes"),
                f"{card['name']}, {format_bytes(card['memory_bytes'])}" if card else "none",
                rig.memory_budget_bytes,
                str(rig.facts.get("fingerprint", "?")),
            )
        )
    columns = [words("rig"), words("processor"), size("memory"), words("accelerator"), size("budget")]
    return table("The rigs", [*columns, words("fingerprint")], rows)


def _document(rig: RigRow, decision: Decision) -> dict[str, object]:
    verdicts = {one.candidate: one for one in decision.verdicts}
    figures = {row.candidate: row for row in decision.table.rows}
    return {
        "rig": rig.name,
        "fingerprint": rig.facts.get("fingerprint"),
        "accelerator": rig.facts.get("accelerator"),
        "memory_budget_bytes": rig.memory_budget_bytes,
        "cost_per_hour": rig.cost_per_hour,
        "candidates": [
            {
                "candidate": rig.plain(name),
                "verdict": verdicts[name].verdict.value if name in verdicts else None,
                "deciding": deciding_words(verdicts[name], figures[name]) if name in verdicts else None,
                "pass_rate": estimate_json(figures[name].pass_rate),
                "peak_bytes": figures[name].peak_bytes,
                "seconds_per_solved": figures[name].seconds_per_solved,
                "cost_per_solved": cost_per_solved(figures[name], rig),
            }
            for name in rig.candidates
            if name in figures
        ],
        "recommended": [rig.plain(choice) for choice in decision.recommended.values() if choice in rig.candidates],
    }
