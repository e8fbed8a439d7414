"""Hold the NumPy runtime against PyTorch, and write the scores that the tests compare with.

Run: pytest tools/check_little_model.py, or python tools/check_little_model.py to write tests/little_scores.json.
Needs PyTorch, as training does.
"""

import itertools
import json
from pathlib import Path

import numpy as np
import torch
from grammar.tasks import draw_tasks
from grammar.texts import FORM, prompt_of
from little_net import Net, to_tensors

from kettlefield.demo.little.level_files import SHAPE, model_folder, write_level
from kettlefield.demo.little.little_weights import load_weights, read_trained
from kettlefield.demo.little.network import Cache, Network
from kettlefield.demo.little.tokens import Tokenizer, read_vocabulary

STORED = Path(__file__).parents[1] / "tests" / "little_scores.json"
TEXTS, KEPT = 8, 64  # and so many of the vocabulary's scores of each


def torch_scores() -> list[tuple[list[int], np.ndarray]]:
    """Tokens of some evaluation tasks, and PyTorch's scores of what follows them."""
    net, held = Net(SHAPE), read_trained(model_folder() / "little.safetensors")
    with torch.no_grad():
        for name, weight in to_tensors(net).items():
            weight.copy_(torch.from_numpy(held[name]))
    tokenizer = Tokenizer(read_vocabulary(model_folder() / "vocabulary.json"))
    tasks = itertools.islice(draw_tasks("near", 5), TEXTS)
    texts = [tokenizer.encode(f"<|user|>{prompt_of(t)}\n\n{FORM}<|assistant|>```python\n", marks=True) for t in tasks]
    with torch.no_grad():
        return [(tokens, net.logits(net.hidden(torch.tensor([tokens])))[0, -1].numpy()) for tokens in texts]


def test_the_runtime_gives_the_same_scores(tmp_path: Path) -> None:
    """To a thousandth; the cache is kept at 32 bits for this, so that nothing but the arithmetic differs."""
    write_level("f16", tmp_path / "f16.gguf")
    network = Network(load_weights(tmp_path / "f16.gguf"))
    for tokens, wanted in torch_scores():
        cache = Cache(SHAPE, SHAPE.context_tokens, 32)
        assert np.abs(network.advance([(cache, tokens)])[0] - wanted).max() < 1e-3


if __name__ == "__main__":
    rows = [
        json.dumps({"tokens": tokens, "scores": [round(float(score), 4) for score in scores[:KEPT]]})
        for tokens, scores in torch_scores()
    ]
    STORED.write_text("[\n" + ",\n".join(rows) + "\n]\n", encoding="utf-8")
    print(STORED)
