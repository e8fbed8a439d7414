"""The card of the little model: what it is, how it was trained, what it is for, and the digests of its files."""

import hashlib
from dataclasses import dataclass
from pathlib import Path

from kettlefield.demo.little.level_files import NAME, SHAPE

TEMPLATE = Path(__file__).with_suffix(".md")


@dataclass(frozen=True, slots=True, kw_only=True)
class Trained:
    """What one training came to."""

    parameters: int
    seed: int
    steps: int
    tokens: int  # read, padding counted
    done: int  # steps that an earlier run did
    scores: dict[str, float]  # share of tasks written word for word, by part of the grammar


def write_card(folder: Path, trained: Trained) -> None:
    """Write ``card.md`` beside the weights and the vocabulary."""
    files = ("little.safetensors", "vocabulary.json")
    digests = (f"sha256:{hashlib.sha256((folder / file).read_bytes()).hexdigest()}  {file}" for file in files)
    text = TEMPLATE.read_text(encoding="utf-8").format(
        name=NAME,
        parameters=trained.parameters,
        layers=SHAPE.layers,
        width=SHAPE.width,
        heads=SHAPE.heads,
        kv_heads=SHAPE.kv_heads,
        feed_forward=SHAPE.feed_forward,
        vocabulary=SHAPE.vocabulary,
        context=SHAPE.context_tokens,
        seed=trained.seed,
        steps=trained.steps,
        tokens=trained.tokens,
        runs=f", in two runs: momentum began anew at step {trained.done:,}" if trained.done else "",
        scores=", ".join(f"{part} {share:.1%}" for part, share in trained.scores.items()),
        digests="\n".join(digests),
    )
    (folder / "card.md").write_text(text, encoding="utf-8")
