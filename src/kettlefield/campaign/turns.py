"""Whose turn it is where candidates stop when they are decided, and how many blocks a turn is good for."""

import math
from collections.abc import Collection, Sequence

import msgspec


class Standing(msgspec.Struct, frozen=True, kw_only=True):
    """How far a candidate is."""

    candidate: str
    reference: str | None  # its reference level, if a criterion pairs it with one that is run beside it
    is_baseline: bool
    asked: int  # blocks, from the first, that it was asked whole
    wants_more: bool  # one of its own criteria needs another block
    to_be_measured: bool  # speed or memory, which come before the suite
    start_s: float = 0.0  # of its server; 0: not known
    block_s: float = 0.0  # for one block; 0: not known
    chance: float = 0.0  # expected number of its criteria that the next block decides


class Turn(msgspec.Struct, frozen=True, kw_only=True):
    """One start of a candidate's server: what it is asked while it runs."""

    candidate: str
    least: int = 0  # blocks that it is asked up to in any case
    upto: int = 0  # and at the most, while its own criteria want more


def next_turn(
    standings: Sequence[Standing], blocks: int, stalled: Collection[str] = (), *, by_chance: bool = False
) -> Turn | None:
    """The next turn; None: nothing is left that anybody needs.

    A candidate that is paired goes as far as its reference level was asked; where that is not further than it was asked
    itself, the reference level has a turn first: of as many blocks as its server takes to start, so that starting takes
    no more of the time than asking, and at least of one. A baseline follows at the end, as far as any other was asked.

    Parameters
    ----------
    standings : sequence of Standing
        In the order of the plan.
    blocks : int
        Of the campaign.
    stalled : collection of str
        Candidates whose last turn came to nothing.
    by_chance : bool
        Take the turn with the most criteria decided a second, by what is expected, not the first of the plan.
    """
    by_name = {one.candidate: one for one in standings}
    turns: list[tuple[float, Turn]] = []
    for one in standings:
        if one.candidate in stalled or one.is_baseline:
            continue
        if one.to_be_measured and not (one.wants_more and one.asked < blocks):
            turns.append((math.inf, Turn(candidate=one.candidate)))
        elif one.wants_more and one.asked < blocks:
            reference = by_name.get(one.reference or "")
            needs_s = one.start_s + one.block_s
            if reference is None:
                turn = Turn(candidate=one.candidate, upto=blocks)
            elif reference.asked > one.asked:
                turn = Turn(candidate=one.candidate, upto=reference.asked)
            elif reference.candidate in stalled:
                continue
            else:
                upto = min(blocks, one.asked + blocks_worth_a_start(reference.start_s, reference.block_s))
                turn = Turn(candidate=reference.candidate, least=upto, upto=upto)
                needs_s += reference.start_s + reference.block_s * (upto - reference.asked)
            turns.append((one.chance / needs_s if needs_s > 0 else math.inf, turn))
    if turns:
        return max(turns, key=lambda pair: pair[0])[1] if by_chance else turns[0][1]
    furthest = max((one.asked for one in standings if not one.is_baseline), default=0)
    for one in standings:
        if one.is_baseline and one.candidate not in stalled and (one.to_be_measured or one.asked < furthest):
            return Turn(candidate=one.candidate, least=furthest, upto=furthest)
    return None


def blocks_worth_a_start(start_s: float, block_s: float) -> int:
    """How many blocks take as long as a start, at least one."""
    return max(1, math.ceil(start_s / block_s)) if block_s > 0 else 1
