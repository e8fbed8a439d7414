"""Next-token distributions on fixed texts: what quantisation took, seen with a few dozen texts."""

import base64
import json
import random
import re
import zlib
from collections.abc import Sequence

import msgspec

from kettlefield.core.statistics.next_token import Position
from kettlefield.measure.procedure import BUDGET, DONE, SPEED, Bench, Ended, Load, Procedure, Steps, Wish
from kettlefield.measure.settings import FidelityTable
from kettlefield.server.prompt_scores import Scorer, Scores, Telling, Way, find_way, pack_positions

FIDELITY = "fidelity"
REPLY_TOKENS = 48  # of each reply, where replies are what is scored: two levels part long before their end
# ends of words: a text cut in the midst of one, or after a space, has tokens that the whole text has not
WORD_END = re.compile(r"(?<=\S)(?=\s)|(?<=\w)(?=[^\w\s])|(?<=[^\w\s])(?=\w)")


class FixedText(msgspec.Struct, frozen=True, kw_only=True):
    """A text whose second part is scored after its first."""

    id: str
    language: str
    before: str  # read, not scored
    scored: str
    asked: str = ""  # a prompt whose reply it is; empty: it is a file


async def score_texts(bench: Bench, texts: Sequence[FixedText], table: FidelityTable, telling: Telling | None) -> Steps:
    """Ask how likely each text is; a server that cannot say it is not measured, and that is no fault.

    Parameters
    ----------
    bench : Bench
        Of a server that is ready and idle.
    texts : sequence of FixedText
        The same for every candidate.
    table : FidelityTable
        What the plan asks for.
    telling : Telling or None
        How the server tells log-probabilities; None: not found out yet.
    """
    if telling is None:
        telling = await find_way(bench.client, is_chat=bench.frame("").is_chat, top=table.top_tokens)
    way = telling.way
    facts: dict[str, object] = {"way": way.value, "top_tokens": table.top_tokens}
    if way is Way.NONE or not isinstance(bench.client, Scorer):
        yield Ended(name=FIDELITY, why=DONE, facts={**facts, "not_measured": telling.words})
        return
    done: list[dict[str, object]] = []
    skipped: list[dict[str, str]] = []
    why = DONE
    for text in texts:
        if bench.budget.is_spent:
            why = BUDGET
            break
        scores = await _score(bench, bench.client, text, table, way)
        if scores.fault:
            skipped.append({"id": text.id, "why": scores.fault})
            if not done and len(skipped) >= MOST_REFUSED:
                break  # it does so for all of them
            continue
        packed = base64.b85encode(zlib.compress(json.dumps(pack_positions(scores.positions)).encode(), 9)).decode()
        size = len(text.scored.encode())
        done.append({"id": text.id, "language": text.language, "size_bytes": size, "positions": packed})
    facts |= {"texts": done, "skipped": skipped}
    if not done and skipped:
        facts["not_measured"] = f"the server {skipped[0]['why']}"
    yield Ended(name=FIDELITY, why=why, facts=facts)


async def _score(bench: Bench, client: Scorer, text: FixedText, table: FidelityTable, way: Way) -> Scores:
    if way is Way.PROMPT:
        return await client.score(text.before + text.scored, begins=len(text.before), top=table.top_tokens)
    if way is Way.REPLIES:
        if not text.asked:
            return Scores(fault="tells log-probabilities of its replies alone, and a file has none")
        ask = bench.frame(text.asked)
        scores = await client.score_reply(ask.messages, most_tokens=REPLY_TOKENS, top=table.top_tokens)
        # how likely a reply is to the one that wrote it says nothing of a text
        return msgspec.structs.replace(
            scores, positions=tuple(Position(one.token, None, one.top) for one in scores.positions)
        )
    positions: list[Position] = []
    for place in drawn_places(text, table.positions_each):
        scores = await client.score_next(text.before + text.scored[:place], top=table.top_tokens)
        if scores.fault:
            return scores
        # what stands there is not known as a token: the place names the position
        positions.append(Position(f"@{place}", None, scores.positions[0].top))
    return (
        Scores(positions=tuple(positions)) if positions else Scores(fault="has no place to ask at in so short a text")
    )


def drawn_places(text: FixedText, number: int) -> list[int]:
    """Characters of a text's scored part at which words end, drawn once and for all candidates the same."""
    ends = [match.start() for match in WORD_END.finditer(text.scored)]
    return sorted(random.Random(f"{FIDELITY} {text.id}").sample(ends, min(number, len(ends))))


MOST_REFUSED = 3  # texts in a row, from the first on


def _run(bench: Bench, wish: Wish) -> Steps:
    return score_texts(bench, wish.texts, wish.fidelity, wish.scoring)


NEXT_TOKEN = Procedure(
    name=FIDELITY,
    doing="scoring fixed texts",
    parts=frozenset({SPEED}),
    rank=75,
    wanted=lambda wish: wish.fidelity.texts > 0 or bool(wish.fidelity.text_files),
    run=_run,
    load=lambda wish: Load(requests=len(wish.texts), prompt_tokens=wish.suite_tokens, reply_tokens=1),
)
