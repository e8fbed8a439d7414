"""Next-token measures: how likely fixed texts are to each candidate, and how near it stays to its reference level."""

from collections.abc import Sequence
from typing import Any

from kettlefield.core.statistics.estimate import Estimate
from kettlefield.core.statistics.next_token import Pairing
from kettlefield.core.units import three_digits
from kettlefield.record.store import Record
from kettlefield.results.frames import campaign_facts
from kettlefield.results.text_fidelity import TOLD, Fidelity, fidelities
from kettlefield.server.prompt_scores import Way
from kettlefield.views.table import (
    Align,
    Column,
    Table,
    View,
    Words,
    chosen,
    count,
    estimate_json,
    present,
    share,
    table,
    words,
)

HOW = {
    Way.SAMPLED: f"{TOLD[Way.SAMPLED]}; places were drawn where words end, the same for every candidate, and "
    "perplexity is not measured",
    Way.REPLIES: f"{TOLD[Way.REPLIES]}: levels are compared up to the token at which their replies part, and "
    "perplexity is not measured",
}


def fidelity_view(record: Record, only: str | None = None) -> View:
    """All of a record's candidates.

    Raises
    ------
    InputError
        No campaign was begun, or the pattern matches nothing.
    """
    facts = campaign_facts(record)
    found = fidelities(record)
    rows = chosen(found, only) if found else []
    nothing = "no fixed texts were scored: [fidelity] texts or text_files in the plan asks for it"
    return View(
        title=facts["title"],
        simulated=facts["simulated"],
        parts=present(
            Words(text=nothing) if not found else None,
            fidelity_table(rows),
            language_table(rows),
            *(Words(text=f"{row.candidate}: {HOW[row.way]}", tone="small") for row in rows if row.way in HOW),
            *(
                Words(text=f"! {row.candidate}: not measured: {row.not_measured}", tone="warning")
                for row in rows
                if row.not_measured
            ),
            *(
                Words(text=f"! {row.candidate}: {len(row.skipped)} texts left out: {_first(row)}", tone="warning")
                for row in rows
                if row.skipped and not row.not_measured
            ),
        ),
        document={"simulated": facts["simulated"], "candidates": [_json(row) for row in rows]},
    )


def _first(row: Fidelity) -> str:
    name, why = next(iter(row.skipped.items()))
    return f"{name} {why}" + (" ..." if len(row.skipped) > 1 else "")


def _interval(value: Any) -> str:
    """A figure with its interval, to three digits each."""
    if not isinstance(value, Estimate) or value.low is None or value.high is None:
        return three_digits(value.value if isinstance(value, Estimate) else value)
    return f"{three_digits(value.value)} ({three_digits(value.low)} to {three_digits(value.high)})"


def _figure(name: str) -> Column:
    return Column(name=name, align=Align.RIGHT, show=_interval)


def fidelity_table(rows: Sequence[Fidelity]) -> Table | None:
    """One row a candidate."""
    return table(
        "Fixed texts: how likely they are, and how near each level stays to its reference",
        [
            words("candidate"),
            count("texts"),
            count("positions"),
            _figure("perplexity/token"),
            _figure("perplexity/byte"),
            words("reference"),
            share("top-1 agreement"),
            _figure("KL divergence, nats"),
            _figure("KL p99"),
        ],
        [
            (
                row.candidate,
                row.texts,
                row.positions,
                row.perplexity,
                row.perplexity_per_byte,
                row.reference,
                *_paired(row.pairing),
                row.pairing.kl_p99 if row.pairing is not None else None,
            )
            for row in rows
        ],
        note=_forcing(rows) + "95 % intervals over texts. Tokens are the model's own: across models compare "
        "perplexity/byte. "
        "Agreement and KL: at equal positions of the reference level. KL divergence over the tokens that both lists "
        "hold, all others as one lump: a lower bound.",
    )


def _forcing(rows: Sequence[Fidelity]) -> str:
    """What stood before each position, where all candidates were scored the same way."""
    if all(row.way is Way.REPLIES for row in rows):
        return "Positions of each level's own replies to the same prompts, by the chat template, without sampling. "
    forced = "Teacher-forced, through the plain completions endpoint: no chat template; the server puts its own mark "
    return forced + "at the beginning. "


def language_table(rows: Sequence[Fidelity]) -> Table | None:
    """The same by language: a level that is weak at one shows it here first."""
    return table(
        "By language",
        [
            words("candidate", once=True),
            words("language"),
            _figure("perplexity/token"),
            _figure("perplexity/byte"),
            share("top-1 agreement"),
            _figure("KL divergence, nats"),
        ],
        [
            (row.candidate, one.language, one.perplexity, one.perplexity_per_byte, *_paired(one.pairing))
            for row in rows
            for one in row.languages
        ],
        folded=True,
    )


def _paired(pairing: Pairing | None) -> tuple[Estimate | None, Estimate | None]:
    return (pairing.top1_agreement, pairing.kl_divergence) if pairing is not None else (None, None)


def _json(row: Fidelity) -> dict[str, Any]:
    return {
        "candidate": row.candidate,
        "way": row.way.value,
        "reference": row.reference,
        "texts": row.texts,
        "positions": row.positions,
        "perplexity": estimate_json(row.perplexity),
        "perplexity_per_byte": estimate_json(row.perplexity_per_byte),
        **_pairing_json(row.pairing),
        "languages": [
            {
                "language": one.language,
                "perplexity": estimate_json(one.perplexity),
                "perplexity_per_byte": estimate_json(one.perplexity_per_byte),
                **_pairing_json(one.pairing),
            }
            for one in row.languages
        ],
        "not_measured": row.not_measured or None,
        "skipped": row.skipped,
    }


def _pairing_json(pairing: Pairing | None) -> dict[str, Any]:
    if pairing is None:
        return {"top1_agreement": None, "kl_divergence": None, "kl_p99": None, "unlike_texts": None}
    return {
        "top1_agreement": estimate_json(pairing.top1_agreement),
        "kl_divergence": estimate_json(pairing.kl_divergence),
        "kl_p99": estimate_json(pairing.kl_p99),
        "unlike_texts": pairing.unlike,
    }
