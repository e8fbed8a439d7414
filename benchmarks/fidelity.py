"""How many fixed texts tell neighbouring levels of the little model apart, beside how many exercises pass rates need.

python benchmarks/fidelity.py [TEXTS]

Levels are told apart by n texts when their KL divergences from f16 have 95 % intervals that do not meet, in 80 of 100
draws of n texts. The drop that 64 exercises show at 80 % power stands beside it.
"""

import itertools
import random
import sys
import tempfile
import time
from pathlib import Path

from kettlefield.campaign.fixed_texts import fixed_texts
from kettlefield.core.statistics.next_token import ScoredText, pair_up
from kettlefield.core.statistics.power import smallest_drop
from kettlefield.demo.http_front import Asked
from kettlefield.demo.little.level_files import LEVELS, write_level
from kettlefield.demo.little.little_server import LittleServer
from kettlefield.demo.little.little_weights import load_weights
from kettlefield.grading.checks.all_checks import CHECKS
from kettlefield.measure.settings import FidelityTable
from kettlefield.server.prompt_scores import read_scores
from kettlefield.suite.loader import find_suite, load_suite
from kettlefield.suite.selection_power import DISCORDANT

DRAWS = 100
TOLD_APART = 0.8
CONTEXT = 512


def score(level: str, folder: Path, texts: tuple) -> tuple[list[ScoredText], float]:
    """Every text as one level sees it, and positions a second."""
    path = folder / f"{level}.gguf"
    write_level(level, path)
    server = LittleServer(load_weights(path), context_tokens=CONTEXT, slots=1, bits=16, keep_prompts=False)
    began, count, scored = time.perf_counter(), 0, []
    for text in texts:
        asked = Asked(body={"prompt": text.before + text.scored}, is_chat=False, received_s=0.0)
        found = server.score(asked, 20)
        count += len(found)
        answer = {
            "choices": [
                {
                    "logprobs": {
                        "tokens": [one.text for one in found],
                        "token_logprobs": [one.logprob for one in found],
                        "top_logprobs": [one.top for one in found],
                    }
                }
            ]
        }
        positions = read_scores(answer, text.before + text.scored, len(text.before), 20).positions
        size = len(text.scored.encode())
        scored.append(ScoredText(id=text.id, language=text.language, size_bytes=size, positions=positions))
    return scored, count / (time.perf_counter() - began)


def needed(reference: list[ScoredText], one: list[ScoredText], other: list[ScoredText]) -> int | None:
    """Texts that tell two levels apart; None: not so many as there are."""
    rng = random.Random(1)
    sides = [{text.id: text for text in side} for side in (reference, one, other)]
    for n in (4, 6, 8, 12, 16, 24, 32, 48, 64):
        if n > len(reference):
            return None
        apart = 0
        for _ in range(DRAWS):
            names = rng.sample(list(sides[0]), n)
            full, a, b = ([side[name] for name in names] for side in sides)
            first, second = pair_up(full, a).kl_divergence, pair_up(full, b).kl_divergence
            apart += first.high < second.low or second.high < first.low
        if apart >= TOLD_APART * DRAWS:
            return n
    return None


def main() -> None:
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 64
    exercises = load_suite(CHECKS, find_suite("firstlight", Path())).exercises
    texts = fixed_texts(FidelityTable(texts=count), exercises, Path())
    with tempfile.TemporaryDirectory() as place:
        found = {level: score(level, Path(place), texts) for level in LEVELS}
    reference = found["f16"][0]
    print(f"{len(texts)} texts, {sum(len(text.positions) for text in reference)} positions")
    levels = [level for level in LEVELS if level != "f16"]
    for level in levels:
        kl = pair_up(reference, found[level][0]).kl_divergence
        speed = found[level][1] / found["f16"][1]
        print(f"{level}: KL {kl.value:.6f} ({kl.low:.6f} to {kl.high:.6f}) nats, {speed:.2f} times f16's positions/s")
    for one, other in itertools.pairwise(levels):
        n = needed(reference, found[one][0], found[other][0])
        print(f"{one} from {other}: " + (f"{n} texts" if n is not None else f"more than {len(texts)} texts"))
    drop = smallest_drop(float(len(exercises)), discordant=DISCORDANT)
    said = "none" if drop is None else f"{drop:.0%}"
    print(f"smallest drop in pass rate that all {len(exercises)} exercises show: {said}")


if __name__ == "__main__":
    main()
