"""What next-token distributions on fixed texts say of each candidate, and of each beside its reference level."""

import base64
import json
import zlib
from typing import Any

import msgspec

from kettlefield.core.errors import InputError
from kettlefield.core.statistics.estimate import Estimate
from kettlefield.core.statistics.next_token import Pairing, ScoredText, pair_up, perplexity, perplexity_per_byte
from kettlefield.measure.fidelity import FIDELITY
from kettlefield.record.store import Record
from kettlefield.results.capacity import procedure_ends
from kettlefield.results.rows import candidate_rows, references_of
from kettlefield.server.prompt_scores import Way, unpack_positions

TOLD = {
    Way.SAMPLED: "its server tells log-probabilities of one place a request",
    Way.REPLIES: "its server tells log-probabilities of its own replies alone",
}


class LanguageFidelity(msgspec.Struct, frozen=True, kw_only=True):
    """One candidate on the texts of one language."""

    language: str
    perplexity: Estimate | None  # of a token
    perplexity_per_byte: Estimate | None
    pairing: Pairing | None  # beside its reference level; None: it is one, or that was not scored


class Fidelity(msgspec.Struct, frozen=True, kw_only=True):
    """One candidate on all texts; None was not measured."""

    candidate: str
    way: Way  # how its server told log-probabilities
    reference: str | None  # the level that it is compared with
    texts: int
    positions: int
    perplexity: Estimate | None  # of a token: between levels of one model only
    perplexity_per_byte: Estimate | None
    pairing: Pairing | None
    languages: tuple[LanguageFidelity, ...]
    not_measured: str  # why, in words; empty: it was
    skipped: dict[str, str]  # text -> why it was not scored

    @property
    def no_perplexity(self) -> str:
        """Why its perplexity is not known, in words; empty where it is."""
        return self.not_measured or (TOLD[self.way] if self.perplexity is None and self.way in TOLD else "")


def fidelities(record: Record, *, confidence: float = 0.95) -> tuple[Fidelity, ...]:
    """Every candidate whose texts were to be scored, in the record's order; empty where no plan asked for it.

    Parameters
    ----------
    record : Record
        An open record.
    confidence : float
        Two-sided, of every interval.

    Raises
    ------
    InputError
        What the record holds of a text cannot be read.
    """
    return record.once(f"fidelities {confidence}", lambda: _read(record, confidence))


def _read(record: Record, confidence: float) -> tuple[Fidelity, ...]:
    ends = procedure_ends(record)
    facts = {name: steps[FIDELITY][1] for name, steps in ends.items() if FIDELITY in steps}
    scored = {name: scored_texts(found, str(record.place)) for name, found in facts.items()}
    candidates = candidate_rows(record)
    references = references_of(candidates)
    rows = []
    for entry in candidates:
        if entry.name not in facts:
            continue
        reference = references.get(entry.model)
        other = scored.get(reference) if reference is not None and reference != entry.name else None
        mine, found = scored[entry.name], facts[entry.name]
        way = _way(found)
        not_measured = str(found.get("not_measured", ""))
        if other and mine and reference is not None and _way(facts[reference]) is not way:
            theirs = _way(facts[reference])
            not_measured = f"it was scored by {way}, its reference level by {theirs}: they are not compared"
            other = None
        are_replies = way is Way.REPLIES
        rows.append(
            Fidelity(
                candidate=entry.name,
                way=way,
                reference=reference if other else None,
                texts=len(mine),
                positions=sum(len(text.positions) for text in mine),
                perplexity=perplexity(mine, confidence=confidence),
                perplexity_per_byte=perplexity_per_byte(mine, confidence=confidence),
                pairing=pair_up(other, mine, confidence=confidence, are_replies=are_replies) if other else None,
                languages=_by_language(mine, other, confidence, are_replies=are_replies),
                not_measured=not_measured,
                skipped={str(one["id"]): str(one["why"]) for one in found.get("skipped", ())},
            )
        )
    return tuple(rows)


def _by_language(
    mine: tuple[ScoredText, ...], other: tuple[ScoredText, ...] | None, confidence: float, *, are_replies: bool
) -> tuple[LanguageFidelity, ...]:
    rows = []
    for language in sorted({text.language for text in mine}):
        own = [text for text in mine if text.language == language]
        theirs = [text for text in other or () if text.language == language]
        rows.append(
            LanguageFidelity(
                language=language,
                perplexity=perplexity(own, confidence=confidence),
                perplexity_per_byte=perplexity_per_byte(own, confidence=confidence),
                pairing=pair_up(theirs, own, confidence=confidence, are_replies=are_replies, resamples=0)
                if theirs
                else None,
            )
        )
    return tuple(rows)


def _way(facts: dict[str, Any]) -> Way:
    """A record from before there were several ways has the first."""
    return Way(facts.get("way", Way.PROMPT.value))


def scored_texts(facts: dict[str, Any], where: str) -> tuple[ScoredText, ...]:
    """The texts of what the procedure found out, unpacked.

    Raises
    ------
    InputError
        They cannot be read; ``where`` says where they stand.
    """
    try:
        return tuple(
            ScoredText(
                id=text["id"],
                language=text["language"],
                size_bytes=text["size_bytes"],
                positions=unpack_positions(json.loads(zlib.decompress(base64.b85decode(text["positions"])))),
            )
            for text in facts.get("texts", ())
        )
    except (ValueError, KeyError, TypeError, zlib.error) as err:
        raise InputError(f"holds scores that cannot be read ({err})", where, "It was changed.") from err
