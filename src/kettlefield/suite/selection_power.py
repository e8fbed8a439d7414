"""What a suite can show of two levels, with which of its selections, and how long that takes to ask."""

import math
from collections.abc import Sequence

import msgspec

from kettlefield.core.extraction.file_diffs import diff_of
from kettlefield.core.statistics.power import effective_pairs, needed_pairs, smallest_drop
from kettlefield.suite.format import SELECTIONS, Exercise, Selection, is_in

CHARS_PER_TOKEN = 3.5  # of code, over the tokenizers that open-weight models have; for a forecast only
DROPS = (0.02, 0.03, 0.05, 0.1)  # that a practitioner asks for
MOST_SEEDS = 20  # beyond that another seed says next to nothing new
DISCORDANT = 0.12  # share of exercises that one level solves and the other does not, as neighbouring levels show it


class SelectionPower(msgspec.Struct, frozen=True, kw_only=True):
    """What one selection shows."""

    selection: Selection
    exercises: int
    smallest_drop: float | None  # of a pass rate, as a share; none: none that is possible
    work_share: float  # of what asking all takes, 0 to 1
    seconds: float  # that a candidate generates


class DropNeeds(msgspec.Struct, frozen=True, kw_only=True):
    """What it takes to show one drop."""

    drop: float  # of a pass rate, as a share
    exercises: int  # asked of both levels
    seeds: int | None  # of the suite, the exercises as written among them; none: seeds alone do not show it
    seconds: float | None  # that a candidate generates


class SuitePower(msgspec.Struct, frozen=True, kw_only=True):
    """All of it, with what was assumed."""

    samples: int
    discordant: float
    tokens_per_s: float
    selections: tuple[SelectionPower, ...]
    drops: tuple[DropNeeds, ...]


def generated_tokens(exercises: Sequence[Exercise]) -> float:
    """About how many tokens the answers to exercises have: those of their own; in a workspace, of the change."""
    return sum(map(_written_chars, exercises)) / CHARS_PER_TOKEN


def _written_chars(exercise: Exercise) -> int:
    if exercise.workspace:
        return len(diff_of(exercise.workspace, exercise.answer))
    return sum(len(text) for turn in exercise.turns for text in turn.answer.values())


def suite_power(
    exercises: Sequence[Exercise], *, samples: int, tokens_per_s: float, discordant: float = DISCORDANT
) -> SuitePower:
    """What a suite can show.

    Parameters
    ----------
    exercises : sequence of Exercise
        All of the suite.
    samples : int
        Of each exercise, at least 1.
    tokens_per_s : float
        At which a candidate generates, above 0.
    discordant : float
        Share of exercises that just one of two levels solves, above 0, up to 1.

    Raises
    ------
    ValueError
        A value is outside its range.
    """
    if tokens_per_s <= 0 or samples < 1:
        raise ValueError(f"tokens_per_s={tokens_per_s}, samples={samples}: outside their ranges")
    whole = generated_tokens(exercises)
    selections = []
    for selection in SELECTIONS:
        chosen = [one for one in exercises if is_in(one.spec, selection)]
        if chosen:
            tokens = generated_tokens(chosen)
            selections.append(
                SelectionPower(
                    selection=selection,
                    exercises=len(chosen),
                    smallest_drop=smallest_drop(effective_pairs(len(chosen), samples), discordant=discordant),
                    work_share=tokens / whole if whole else 0.0,
                    seconds=tokens * samples / tokens_per_s,
                )
            )
    drops = tuple(_needs(exercises, drop, samples, tokens_per_s, discordant) for drop in DROPS)
    return SuitePower(
        samples=samples,
        discordant=discordant,
        tokens_per_s=tokens_per_s,
        selections=tuple(selections),
        drops=drops,
    )


def _needs(
    exercises: Sequence[Exercise], drop: float, samples: int, tokens_per_s: float, discordant: float
) -> DropNeeds:
    wanted = needed_pairs(drop, discordant=discordant)
    varying = [one for one in exercises if one.spec.vary]
    plain = effective_pairs(len(exercises) - len(varying), samples) if len(exercises) > len(varying) else 0.0

    def worth(seeds: int) -> float:
        return plain + (effective_pairs(len(varying), samples * seeds) if varying else 0.0)

    # variants of one exercise are about as similar as samples of one
    seeds = next((count for count in range(1, MOST_SEEDS + 1) if worth(count) >= wanted), None)
    tokens = generated_tokens(exercises) + ((seeds or 1) - 1) * generated_tokens(varying)
    return DropNeeds(
        drop=drop,
        exercises=math.ceil(wanted / effective_pairs(1, samples)),
        seeds=seeds,
        seconds=tokens * samples / tokens_per_s if seeds is not None else None,
    )
