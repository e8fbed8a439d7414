"""Tables of what servers say of themselves."""

from kettlefield.results.server_words import Counted, ServerWords
from kettlefield.views.table import Table, Words, count, percent, table, words

_WHAT = {"prompt_tokens": "prompt tokens", "completion_tokens": "completion tokens"}


def counters_table(said: ServerWords) -> Table | None:
    """Token counters beside ours."""
    return table(
        "Token counters of the servers beside ours",
        [
            words("candidate", once=True),
            words("what"),
            words("server's counter"),
            count("server"),
            count("ours"),
            words("agree"),
        ],
        [
            (one.candidate, _WHAT[one.what], one.counter, round(one.server), round(one.ours), _agree(one))
            for one in said.counted
        ],
        note="Ours: the sum of what replies told of themselves, over every request of the sessions.",
    )


def _agree(one: Counted) -> str:
    if one.agrees is None:
        return f"not compared: {one.not_compared}"
    return "yes" if one.agrees else f"no, by {one.server - one.ours:+,.0f}"


def gauges_table(said: ServerWords) -> Table | None:
    """The highest of what servers told under load."""
    frame = said.load
    rows = []
    for (name, phase), part in frame.groupby(["candidate", "phase"], sort=False):
        most = [None if part[one].isna().all() else round(part[one].max()) for one in ("running", "waiting")]
        full = None if part["cache_use"].isna().all() else part["cache_use"].max()
        rows.append((name, phase, *most, full))
    return table(
        "Under load, as the servers themselves say",
        [
            words("candidate", once=True),
            words("procedure"),
            count("most running"),
            count("most waiting"),
            percent("fullest cache"),
        ],
        [row for row in rows if any(value is not None for value in row[2:])],
        note="Looked at twice a second.",
    )


def counter_words(said: ServerWords) -> list[Words]:
    """Where the two disagree."""
    return [
        Words(
            text=f"! {one.candidate}: the server counts {one.server:,.0f} {_WHAT[one.what]} ({one.counter}), "
            f"its replies add up to {one.ours:,.0f}",
            tone="warning",
        )
        for one in said.counted
        if one.agrees is False
    ]
