"""What a solution costs, what repair turns add, how pass rates split, how replies follow the reference."""

from collections.abc import Mapping, Sequence

from kettlefield.core.outcome import Outcome
from kettlefield.record.store import Record
from kettlefield.results.breakdown import FEW, Group, pass_rates_by
from kettlefield.results.comparison import Figures, compare
from kettlefield.results.frames import campaign_facts
from kettlefield.results.memory_use import memories
from kettlefield.results.reply_similarity import ReplyAgreement, reply_agreements
from kettlefield.results.rows import not_measured
from kettlefield.views.table import (
    Align,
    Column,
    Table,
    View,
    Words,
    candidate_text,
    chosen,
    count,
    estimate_json,
    number,
    percent,
    present,
    share,
    signed_size,
    size,
    table,
    words,
)


def cost_view(record: Record, only: str | None = None) -> View:
    """Time, tokens, memory and energy for each solved exercise."""
    compared = compare(record)
    rows = chosen(compared.rows, only)
    joules = {one.candidate: one.joules_per_solved for one in memories(record)}
    references = {row.model: row for row in compared.rows if row.reference}
    costs = table(
        "Cost of a solved exercise",
        [
            words("candidate"),
            Column(name="solved", align=Align.RIGHT),
            *(number(f"{unit}/solved") for unit in ("s", "tokens", "GiB x s", "J")),
            size("peak memory"),
            signed_size("than its reference"),
        ],
        [
            (
                candidate_text(row),
                f"{row.solved} of {row.trials}",
                row.seconds_per_solved or None,
                row.tokens_per_solved or None,
                row.byte_seconds_per_solved / 2**30 if row.byte_seconds_per_solved else None,
                joules[row.candidate] or None,
                row.peak_bytes,
                _difference(row, references.get(row.model)),
            )
            for row in rows
        ],
        note="All trials pay, those solved count. Tokens are the model's own and differ between models. J: a dash "
        "where this "
        "machine has no energy counter.",
    )
    return View(
        title=compared.title,
        simulated=compared.simulated,
        parts=present(costs, *left_out_words(record)),
        document={
            "simulated": compared.simulated,
            "candidates": [
                {
                    "candidate": row.candidate,
                    "solved": row.solved,
                    "seconds_per_solved": row.seconds_per_solved,
                    "tokens_per_solved": row.tokens_per_solved,
                    "byte_seconds_per_solved": row.byte_seconds_per_solved,
                    "joules_per_solved": joules[row.candidate],
                    "peak_bytes": row.peak_bytes,
                    "peak_bytes_less_reference": _difference(row, references.get(row.model)),
                }
                for row in rows
            ],
        },
    )


def solved_view(record: Record, only: str | None = None) -> View:
    """At the first attempt, after repair turns, in several samples, in part."""
    compared = compare(record)
    rows = chosen(compared.rows, only)
    return View(
        title=compared.title,
        simulated=compared.simulated,
        parts=present(attempts_table(rows), *left_out_words(record)),
        document={
            "simulated": compared.simulated,
            "candidates": [
                {
                    "candidate": row.candidate,
                    "trials": row.trials,
                    "pass_rate": estimate_json(row.pass_rate),
                    "solved": row.solved,
                    "solved_after_repair": row.solved_after_repair,
                    "score": row.score,
                    "pass_at_k": row.pass_at_k,
                }
                for row in rows
            ],
        },
    )


def attempts_table(rows: Sequence[Figures]) -> Table | None:
    """pass@1, what repair turns add, and pass@k."""
    turns = sorted({turn for row in rows for turn in row.solved_after_repair})
    samples = sorted({k for row in rows for k in row.pass_at_k if k > 1})
    return table(
        "pass@1, repair turns and pass@k",
        [
            words("candidate"),
            share("pass@1 (95 % interval)"),
            *(share(f"after {turn} repair") for turn in turns),
            share("mean score"),
            *(share(f"pass@{k}") for k in samples),
        ],
        [
            (
                candidate_text(row),
                row.pass_rate,
                *(_repaired(row, turn) for turn in turns),
                row.score,
                *(row.pass_at_k.get(k) for k in samples),
            )
            for row in rows
        ],
        note="After n repair: solved with at most n repair turns. Score: weighted share of the checks that passed. "
        "pass@k: "
        "chance that at least one of k samples passes, in the mean over exercises, by the unbiased estimator. * "
        "marks the "
        "reference level.",
    )


def _repaired(row: Figures, turns: int) -> float | None:
    """What a user who sends errors back at most this often would have got."""
    if not row.trials:
        return None
    return (row.solved + sum(number for turn, number in row.solved_after_repair.items() if turn <= turns)) / row.trials


def left_out_words(record: Record) -> tuple[Words, ...]:
    """Exercises that could not be asked on the rig: no table is without the word."""
    return tuple(Words(text=text, tone="warning") for text in not_measured(record))


def _difference(row: Figures, reference: Figures | None) -> int | None:
    """Peak memory less that of the reference level, in bytes."""
    if reference is None or row.reference or row.peak_bytes is None or reference.peak_bytes is None:
        return None
    return row.peak_bytes - reference.peak_bytes


def groups_view(record: Record, grouping: str, only: str | None = None) -> View:
    """One row a group, one column a candidate."""
    facts, rows = campaign_facts(record), chosen(pass_rates_by(record, grouping), only)
    return View(
        title=facts["title"],
        simulated=facts["simulated"],
        parts=present(groups_table(rows, grouping), *left_out_words(record)),
        document={
            "simulated": facts["simulated"],
            "by": grouping,
            "groups": [
                {
                    "candidate": one.candidate,
                    "group": one.group,
                    "trials": one.trials,
                    "solved": one.solved,
                    "pass_rate": estimate_json(one.pass_rate),
                    "few": one.few,
                }
                for one in rows
            ],
        },
    )


def outcomes_view(record: Record, only: str | None = None) -> View:
    """How trials ended."""
    compared = compare(record)
    rows = chosen(compared.rows, only)
    return View(
        title=compared.title,
        simulated=compared.simulated,
        parts=present(outcomes_table({row.candidate: row.outcomes for row in rows}), *left_out_words(record)),
        document={
            "simulated": compared.simulated,
            "by": "outcome",
            "candidates": [{"candidate": row.candidate, "outcomes": row.outcomes} for row in rows],
        },
    )


def groups_table(rows: Sequence[Group], grouping: str) -> Table | None:
    """Solved by kind, language, difficulty or topic."""
    names = list(dict.fromkeys(one.candidate for one in rows))
    cells = {(one.group, one.candidate): one for one in rows}
    return table(
        f"Solved by {grouping}",
        [words(grouping), *(Column(name=name, align=Align.RIGHT, show=_solved) for name in names)],
        [(group, *(cells.get((group, name)) for name in names)) for group in sorted({one.group for one in rows})],
        note=f"At the first attempt, of the trials that count. ?: fewer than {FEW} trials, too few to say much; "
        "--json has "
        "the intervals.",
    )


def _solved(one: Group) -> str:
    return f"{one.solved} of {one.trials}" + (" ?" if one.few else "")


def outcomes_table(outcomes: Mapping[str, Mapping[str, int]]) -> Table | None:
    """How trials ended, repair turns included; ``outcomes`` holds counts by candidate and outcome."""
    seen = [outcome.value for outcome in Outcome if any(outcome.value in counts for counts in outcomes.values())]
    return table(
        "How trials ended, repair turns included",
        [words("outcome"), *(count(name) for name in outcomes)],
        [(name, *(counts.get(name) or None for counts in outcomes.values())) for name in seen],
    )


_FIELDS = (
    *("candidate", "reference", "temperature", "pairs", "identical", "same_code", "with_answer"),
    *("parted_at_chars", "parted_at_share"),
)


def replies_view(record: Record, only: str | None = None, *, against: str | None = None) -> View:
    """One row for each candidate that is compared with another."""
    facts = campaign_facts(record)
    rows = chosen(reply_agreements(record, against=against), only)
    nothing = "No candidate has another to compare with: mark a reference level, or name one with --against."
    return View(
        title=facts["title"],
        simulated=facts["simulated"],
        parts=present(
            None if rows else Words(text=nothing),
            replies_table(rows),
            *left_out_words(record),
            temperature_words(rows),
        ),
        document={
            "simulated": facts["simulated"],
            "replies": [{name: getattr(one, name) for name in _FIELDS} for one in rows],
        },
    )


def replies_table(rows: Sequence[ReplyAgreement]) -> Table | None:
    """Identical replies and code, and where replies part."""
    return table(
        "Replies beside the reference level's",
        [
            words("candidate"),
            words("reference"),
            count("replies"),
            *(Column(name=name, align=Align.RIGHT) for name in ("identical", "same code")),
            count("part after", "characters"),
            percent("of the reference's"),
        ],
        [
            (
                one.candidate,
                one.reference,
                one.pairs,
                f"{one.identical} ({one.identical / one.pairs:.2f})",
                f"{one.same_code} of {one.with_answer}",
                None if one.parted_at_chars is None else round(one.parted_at_chars),
                one.parted_at_share,
            )
            for one in rows
        ],
        note="First replies to the same prompts with the same seeds. Same code: of those where both gave an answer, "
        "layout "
        "and comments apart. Part after: median of those that differ.",
    )


def temperature_words(rows: Sequence[ReplyAgreement]) -> Words | None:
    """A warning where replies differ by chance too."""
    warm = max((one.temperature for one in rows), default=0.0)
    if not warm:
        return None
    text = f"Temperature is {warm:g}: above 0 replies differ by chance too, not by the level alone."
    return Words(text=text, tone="warning")
