"""Next-token distributions on fixed texts: what quantisation took, seen with a few dozen texts."""

import base64
import json
import zlib
from collections.abc import Sequence
from dataclasses import dataclass

from kettlefield.measure.procedure import BUDGET, DONE, SPEED, Bench, Ended, Load, Procedure, Steps, Wish
from kettlefield.server.prompt_scores import Scorer, pack_positions

FIDELITY = "fidelity"


@dataclass(frozen=True, slots=True, kw_only=True)
class FixedText:
    """A text whose second part is scored after its first."""

    id: str
    language: str
    before: str  # read, not scored
    scored: str


async def score_texts(bench: Bench, texts: Sequence[FixedText], top: int) -> Steps:
    """Ask how likely each text is; a server that cannot say it is not measured, and that is no fault.

    Parameters
    ----------
    bench : Bench
        Of a server that is ready and idle.
    texts : sequence of FixedText
        The same for every candidate.
    top : int
        Likeliest tokens listed at each position.
    """
    if not isinstance(bench.client, Scorer):
        yield Ended(name=FIDELITY, why=DONE, facts={"not_measured": "its protocol has no log-probabilities"})
        return
    done: list[dict[str, object]] = []
    skipped: list[dict[str, str]] = []
    why = DONE
    for text in texts:
        if bench.budget.is_spent:
            why = BUDGET
            break
        scores = await bench.client.score(text.before + text.scored, begins=len(text.before), top=top)
        if scores.fault:
            skipped.append({"id": text.id, "why": scores.fault})
            if not done and len(skipped) >= MOST_REFUSED:
                break  # it does so for all of them
            continue
        packed = base64.b85encode(zlib.compress(json.dumps(pack_positions(scores.positions)).encode(), 9)).decode()
        size = len(text.scored.encode())
        done.append({"id": text.id, "language": text.language, "size_bytes": size, "positions": packed})
    facts: dict[str, object] = {"texts": done, "skipped": skipped, "top_tokens": top}
    if not done and skipped:
        facts["not_measured"] = f"the server {skipped[0]['why']}"
    yield Ended(name=FIDELITY, why=why, facts=facts)


MOST_REFUSED = 3  # texts in a row, from the first on


def _run(bench: Bench, wish: Wish) -> Steps:
    return score_texts(bench, wish.texts, wish.fidelity.top_tokens)


NEXT_TOKEN = Procedure(
    name=FIDELITY,
    doing="scoring fixed texts",
    parts=frozenset({SPEED}),
    rank=75,
    wanted=lambda wish: wish.fidelity.texts > 0 or bool(wish.fidelity.text_files),
    run=_run,
    load=lambda wish: Load(requests=len(wish.texts), prompt_tokens=wish.suite_tokens, reply_tokens=1),
)
