"""What a plan has still to do, how long that takes at least, and what it can show."""

from collections.abc import Sequence

from kettlefield.campaign.forecast import Forecast
from kettlefield.campaign.outlook import NOT_NEEDED, Outlook
from kettlefield.core.as_dict import as_dict
from kettlefield.core.statistics.estimate import not_measured_words
from kettlefield.core.units import format_duration
from kettlefield.plan.suite_selection import Asked
from kettlefield.views.table import Table, View, Words, count, duration, number, percent, present, table, words


def forecast_view(
    suite: Asked,
    rows: Sequence[Forecast],
    *,
    exercises: int,
    samples: int,
    discordant: float,
    drop: float | None,
    without: Sequence[str] = (),
    decisions: Sequence[Outlook] = (),
) -> View:
    """One row a candidate.

    Parameters
    ----------
    suite : Asked
        What the plan asks.
    rows : sequence of Forecast
        What is still to be done.
    exercises, samples : int
        Asked of each candidate, and how often each.
    discordant : float
        Share of exercises that just one of two levels solves, as assumed.
    drop : float, optional
        The smallest drop that is then shown; None: none that is possible.
    without : sequence of str
        Candidates that are left out, each with the reason.
    decisions : sequence of Outlook
        What is likely to be decided, where candidates stop when they are.
    """
    left_out = not_measured_words(suite.not_measured)
    known = [row.at_least_s for row in rows if row.at_least_s is not None]
    detectable = f"more than {discordant:g}" if drop is None else f"{drop:.2f}"
    return View(
        title="",
        simulated=False,
        parts=present(
            left_table(rows),
            decisions_table(decisions),
            *(Words(text=f"left out: {line}", tone="warning") for line in without),
            *(Words(text=f"! {row.candidate}: {text}", tone="warning") for row in rows for text in _over_context(row)),
            *(Words(text=text, tone="warning") for text in left_out),
            Words(
                text=f"{suite.label}: {exercises} exercises, {samples} samples each; reading and generating take at "
                "least "
                f"{format_duration(sum(known))}"
            ),
            Words(
                text=f"minimum detectable drop from one level to another, at 80 % power: {detectable} (one-sided 95 %, "
                f"{discordant:.0%} of the exercises solved by just one of the two)"
            ),
        ),
        document={
            "suite": suite.label,
            "exercises": exercises,
            "samples": samples,
            "discordant": discordant,
            "smallest_drop": drop,
            "not_measured": left_out,
            "left_out": list(without),
            "decisions": [as_dict(one) for one in decisions],
            "candidates": [as_dict(row) for row in rows],
        },
    )


def left_table(rows: Sequence[Forecast]) -> Table | None:
    """What each candidate has still to do."""
    faulted = any(row.faulted for row in rows)
    unread = any(row.prefill_tps is None for row in rows)
    return table(
        "Left to do",
        [
            words("candidate"),
            count("trials left"),
            count("ended in faults"),
            count("timed requests left"),
            number("decode", "tokens/s"),
            words("that rate is"),
            number("prefill", "tokens/s"),
            duration("at least"),
        ],
        [
            (
                *(row.candidate, row.trials, row.faulted, row.timed_requests, row.rate_tps, row.basis, row.prefill_tps),
                row.at_least_s,
            )
            for row in rows
        ],
        note=" ".join(
            (
                *(("-: prefill was not timed yet; reading prompts is not in the time.",) if unread else ()),
                *(("Trials that ended in a fault are asked again with --retry-faults.",) if faulted else ()),
            )
        ),
    )


def decisions_table(rows: Sequence[Outlook]) -> Table | None:
    """What is likely to be decided, and when."""
    return table(
        "Likely to be decided",
        [
            words("candidate", once=True),
            words("criterion"),
            words("if the truth is"),
            percent("chance"),
            count("as likely as not after", "exercises"),
            percent("within the budget"),
        ],
        [
            (row.candidate, row.criterion, row.basis, row.chance, row.exercises, row.chance_in_budget)
            if row.status == "undecided"
            else (row.candidate, row.criterion, _as_decided(row.status), None, row.exercises, None)
            for row in rows
        ],
        note="A toss-up: as clear, either way, as one look at the end decides in 8 of 10 campaigns. The budget is "
        "taken up in the order of the plan, at the least time. A candidate that fails a criterion is asked no further.",
    )


def _as_decided(status: str) -> str:
    return status if status == NOT_NEEDED else f"{status} already"


def _over_context(row: Forecast) -> list[str]:
    """The exercises whose prompts do not fit, as far as can be said before anything is asked."""
    if not row.over_context:
        return []
    names = ", ".join(f"{name} ({tokens:,})" for name, tokens in sorted(row.over_context.items()))
    how = "as the server counts" if row.counted else "guessed: the server has counted none of them yet"
    do = "exercise does" if len(row.over_context) == 1 else "exercises do"
    return [f"{len(row.over_context)} {do} not fit its context; prompt tokens, {how}: {names}"]
