"""A first look at candidates: each one's figures in a row, and what stands out of them in a few sentences."""

from collections.abc import Callable, Sequence

import msgspec

from kettlefield.core.outcome import Outcome
from kettlefield.core.statistics.estimate import Estimate
from kettlefield.core.units import format_bytes
from kettlefield.record.store import Record
from kettlefield.results.comparison import Figures, compare
from kettlefield.results.frames import noted_candidates
from kettlefield.results.rows import candidate_rows, session_rows
from kettlefield.results.speed import Cell, timings

MOST_FINDINGS = 3
SLOW = 0.5  # of what bandwidth allows
LOOPING = 0.1  # of the replies
SEEN_WORSE = 0.05  # p of a level's paired difference to its reference, adjusted for the levels of its model


class Look(msgspec.Struct, frozen=True, kw_only=True):
    """One candidate at a first look; None was not measured."""

    figures: Figures
    context_tokens: int
    served: bool  # its server answered
    tried: bool  # it was come to
    cells: tuple[Cell, ...]  # latency at each prompt length
    wrong_style: tuple[str, ...]  # signs that it is asked in a form that it does not know

    @property
    def name(self) -> str:
        """Of the candidate."""
        return self.figures.candidate

    def share(self, *outcomes: Outcome) -> float:
        """Of the trials that count, those with one of these outcomes."""
        found = sum(self.figures.outcomes.get(outcome.value, 0) for outcome in outcomes)
        return found / self.figures.trials if self.figures.trials else 0.0

    @property
    def decode_tps(self) -> Estimate | None:
        """Median at the shortest prompt."""
        return self.cells[0].decode_tps if self.cells else None

    @property
    def ceiling_share(self) -> float | None:
        """Of the decode rate that bandwidth allows, at the shortest prompt."""
        rate, ceiling = self.decode_tps, self.figures.decode_ceiling_tps
        if rate is None or not ceiling or self.cells[0].doubt:
            return None
        return rate.value / ceiling


def looks(record: Record) -> tuple[Look, ...]:
    """Every candidate of a first look's record, in the record's order.

    Raises
    ------
    InputError
        No campaign was begun in it.
    """
    settings = {row.name: row.settings for row in candidate_rows(record)}
    cells = {timing.candidate: timing.latency for timing in timings(record)}
    noted = noted_candidates(record)
    signs: dict[str, tuple[str, ...]] = {}
    for session in session_rows(record):
        signs[session.candidate] = tuple((session.preflight or {}).get("wrong_style", ()))
    return tuple(
        Look(
            figures=figures,
            context_tokens=int(settings[figures.candidate]["server"]["context"]),
            served=figures.candidate in signs,
            tried=figures.candidate in signs or figures.candidate in noted,
            cells=cells.get(figures.candidate, ()),
            wrong_style=signs.get(figures.candidate, ()),
        )
        for figures in compare(record).rows
    )


def findings(found: Sequence[Look], left_out: Sequence[str], budget_bytes: int) -> tuple[str, ...]:
    """What stands out, the gravest first; at most `MOST_FINDINGS` sentences, each of which the figures show.

    Parameters
    ----------
    found : sequence of Look
        The candidates.
    left_out : sequence of str
        Files that were not tried, each with its reason.
    budget_bytes : int
        Memory that a candidate may take.
    """
    said = [f"Does not fit: {'; '.join(left_out)}."] if left_out else []
    for applies, words in _KINDS:
        those = [look for look in found if applies(look, budget_bytes)]
        if those:
            said.append(words(those, budget_bytes))
    if not said and found:
        solved = ", ".join(f"{look.figures.solved} of {look.figures.trials} ({look.name})" for look in found)
        said = [f"Nothing stands out; solved: {solved}."]
    return tuple(said[:MOST_FINDINGS])


def _names(found: Sequence[Look], detail: Callable[[Look], str] | None = None) -> str:
    return ", ".join(f"{look.name} ({detail(look)})" if detail is not None else look.name for look in found)


def _is_over_budget(look: Look, budget_bytes: int) -> bool:
    return (look.figures.peak_bytes or 0) > budget_bytes


def _is_worse(look: Look) -> bool:
    against = look.figures.against
    return against is not None and against.p_adjusted < SEEN_WORSE and _lost(look) > 0


def _lost(look: Look) -> int:
    against = look.figures.against
    return against.pairs.lost - against.pairs.won if against is not None else 0


def _fill(look: Look) -> str:
    return f"{look.share(Outcome.OVER_CONTEXT):.0%} at {look.context_tokens:,} tokens"


_Applies = Callable[[Look, int], bool]
_Words = Callable[[Sequence[Look], int], str]
# what may stand out, the gravest first: whether it does, and how it is said of all candidates of which it holds
_KINDS: tuple[tuple[_Applies, _Words], ...] = (
    (
        lambda look, _: not look.tried,
        lambda those, _: f"Not come to: {_names(those)}; the same command goes on where it was broken off.",
    ),
    (
        lambda look, _: look.tried and not look.served,
        lambda those, _: f"Its server gave no answer: {_names(those)}; the note below and its log say why.",
    ),
    (
        lambda look, _: bool(look.wrong_style),
        lambda those, _: (
            "Asked in a form that it does not know, so that its answers mean little: "
            f"{_names(those, lambda look: look.wrong_style[0])}; set [prompting] style."
        ),
    ),
    (
        lambda look, _: look.share(Outcome.OVER_CONTEXT) > 0,
        lambda those, _: f"The context is too small for some prompts: {_names(those, _fill)}.",
    ),
    (
        lambda look, _: look.share(Outcome.LOOPING) >= LOOPING,
        lambda those, _: (
            f"Replies that repeat themselves without end: "
            f"{_names(those, lambda look: f'{look.share(Outcome.LOOPING):.0%}')}."
        ),
    ),
    (
        _is_over_budget,
        lambda those, budget: (
            f"Takes more than {format_bytes(budget)}: "
            f"{_names(those, lambda look: format_bytes(look.figures.peak_bytes or 0))}."
        ),
    ),
    (
        lambda look, _: look.share(Outcome.CUT_OFF) >= LOOPING,
        lambda those, _: (
            "Replies that the token cap cut off, for want of which they may have failed: "
            f"{_names(those, lambda look: f'{look.share(Outcome.CUT_OFF):.0%}')}."
        ),
    ),
    (
        lambda look, _: (look.ceiling_share or 1.0) < SLOW,
        lambda those, _: (
            "Decodes at less than half of what memory bandwidth allows: "
            f"{_names(those, lambda look: f'{look.ceiling_share:.1%}')}."
        ),
    ),
    (
        lambda look, _: _is_worse(look),
        lambda those, _: (
            "Solves less than its reference level, beyond chance: "
            f"{_names(those, lambda look: f'{_lost(look)} fewer of {look.figures.trials}')}."
        ),
    ),
    (
        lambda look, _: bool(look.cells) and any(cell.doubt for cell in look.cells),
        lambda those, _: f"The host was too busy to time it: {_names(those)}; times of a quiet hour will differ.",
    ),
)
