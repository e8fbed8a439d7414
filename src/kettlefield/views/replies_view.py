"""How far each level's replies follow the reference level's."""

from collections.abc import Sequence

from kettlefield.record.store import Record
from kettlefield.results.frames import campaign_facts
from kettlefield.results.reply_similarity import ReplyAgreement, reply_agreements
from kettlefield.views.choice import chosen
from kettlefield.views.cost_view import left_out_words
from kettlefield.views.table import Align, Column, Table, View, Words, count, percent, present, table, words

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
