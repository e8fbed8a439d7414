"""Train the little model again from nothing.

Run: python tools/train_little_model.py OUT_FOLDER

Needs PyTorch (pip install -e '.[train]'), no accelerator. Everything is drawn from one seed; the text is made
as it goes, from the training part of the grammar alone.
"""

import argparse
import itertools
import random
import time
from collections.abc import Iterator
from pathlib import Path

import msgspec
import numpy as np
import torch
from byte_pairs import find_merges
from grammar.tasks import Part, code_of, draw_tasks, lines
from grammar.texts import FORM, SPECIALS, Text, draw_text, prompt_of
from little_net import Net, to_tensors
from safetensors.torch import load_file, save_file
from torch.nn import functional

from kettlefield.standin.little.shape import Shape
from kettlefield.standin.little.tokens import CHARACTERS, Tokenizer, Vocabulary, read_vocabulary
from kettlefield.standin.little.weights import ARCHITECTURE

SEED, STEPS = 20, 3500
TOKENS_A_STEP = 6144
POOL = 768  # texts that are sorted by length before they are cut into batches, so that little is padding
SHAPE = Shape(vocabulary=512, width=256, layers=3, heads=8, kv_heads=2, head_size=32, feed_forward=256,
              context_tokens=512, rotary_base=10_000.0, epsilon=1e-5)  # fmt: skip
Encoded = tuple[list[int], int]  # a text's tokens, and where what is to be learned begins


def make_vocabulary() -> Vocabulary:
    """Merges found in some thousand texts of the training part."""
    rng = random.Random(SEED)
    texts = [draw_text(task, rng) for task in itertools.islice(draw_tasks("training", SEED), 6000)]
    plain = [text.given + text.wanted for text in texts]
    for mark in SPECIALS:
        plain = [text.replace(mark, "\n") for text in plain]
    return Vocabulary(specials=SPECIALS, merges=find_merges(plain, SHAPE.vocabulary - len(SPECIALS) - len(CHARACTERS)))


def encode(text: Text, tokenizer: Tokenizer) -> Encoded:
    """A text as tokens; only what follows the given part is learned."""
    given = tokenizer.encode(text.given, marks=True)
    return given + tokenizer.encode(text.wanted, marks=True), len(given)


def batches(tokenizer: Tokenizer, seed: int) -> Iterator[tuple[torch.Tensor, torch.Tensor]]:
    """Token numbers and a mask of those that are to be learned, both batch x length."""
    rng = random.Random(seed)
    tasks = draw_tasks("training", seed)
    while True:
        pool = [encode(draw_text(task, rng), tokenizer) for task in itertools.islice(tasks, POOL)]
        pool.sort(key=lambda entry: len(entry[0]))
        ready, batch = [], []
        for entry in pool:
            if batch and (len(batch) + 1) * len(entry[0]) > TOKENS_A_STEP:
                ready.append(to_batch(batch))
                batch = []
            batch.append(entry)
        ready.append(to_batch(batch))
        rng.shuffle(ready)
        yield from ready


def to_batch(entries: list[Encoded]) -> tuple[torch.Tensor, torch.Tensor]:
    """Texts padded to one length."""
    longest = max(len(tokens) for tokens, _ in entries)
    tokens = torch.tensor([[*own, *[0] * (longest - len(own))] for own, _ in entries])
    learned = torch.tensor([[start <= at < len(own) for at in range(longest)] for own, start in entries])
    return tokens, learned


def chunks(entries: list[Encoded], size: int) -> Iterator[list[Encoded]]:
    """Entries in lists of at most ``size``."""
    return (entries[at : at + size] for at in range(0, len(entries), size))


def solved(net: Net, tokenizer: Tokenizer, part: Part, count: int = 256) -> float:
    """Share of a part's chat tasks whose whole reply is the likeliest token by token: greedy decoding writes it."""
    tasks = itertools.islice(draw_tasks(part, SEED + 1), count)
    texts = [
        Text(f"<|user|>{prompt_of(t)}\n\n{FORM}<|assistant|>", f"```python\n{code_of(lines(t), t)}```<|end|>")
        for t in tasks
    ]
    right = 0
    with torch.no_grad():
        for chunk in chunks(sorted((encode(t, tokenizer) for t in texts), key=lambda e: len(e[0])), 32):
            tokens, learned = to_batch(chunk)
            best = net.logits(net.hidden(tokens[:, :-1])).argmax(-1)
            right += int(((best == tokens[:, 1:]) | ~learned[:, 1:]).all(1).sum())
    return right / count


def share_of_rate(step: int) -> float:
    """What part of the full learning rate a step has: up over 50 steps, flat to 1200, then down to a little at the end.

    The slope is steeper up to step 1500, which is where the one run so far was first meant to end early.
    """
    points = ((0, 0.02), (50, 1.0), (1200, 1.0), (1500, 0.6), (STEPS, 0.01))
    return float(np.interp(step, *zip(*points, strict=True)))


def train(out: Path, resume: int) -> None:
    """Train and write weights and vocabulary; with ``resume``, go on from what lies there after so many steps."""
    torch.manual_seed(SEED + resume)
    if not resume:
        (out / "vocabulary.json").write_bytes(msgspec.json.format(msgspec.json.encode(make_vocabulary()), indent=1))
    tokenizer, net = Tokenizer(read_vocabulary(out / "vocabulary.json")), Net(SHAPE)
    if resume:
        load(net, out)
    matrices = [w for name, w in net.named_parameters() if w.ndim == 2 and "embed" not in name]
    others = [w for name, w in net.named_parameters() if w.ndim == 1 or "embed" in name]
    optimizers = [
        torch.optim.Muon(matrices, lr=0.02, weight_decay=0.01, momentum=0.95),
        torch.optim.AdamW(others, lr=0.004, betas=(0.9, 0.95), weight_decay=0.0),
    ]
    peaks = [optimizer.param_groups[0]["lr"] for optimizer in optimizers]
    began, seen, stream = time.perf_counter(), 0, itertools.islice(batches(tokenizer, SEED), resume, None)
    print(sum(weight.numel() for weight in net.parameters()), "parameters", flush=True)
    for step in range(resume, STEPS):
        for optimizer, peak in zip(optimizers, peaks, strict=True):
            optimizer.param_groups[0]["lr"] = peak * share_of_rate(step)
            optimizer.zero_grad()
        tokens, learned = next(stream)
        hidden = net.hidden(tokens[:, :-1])[learned[:, 1:]]
        loss = functional.cross_entropy(net.logits(hidden), tokens[:, 1:][learned[:, 1:]])
        loss.backward()
        for optimizer in optimizers:
            optimizer.step()
        seen += tokens.numel()
        if step % 50 == 0 or step == STEPS - 1:
            took = time.perf_counter() - began
            print(f"{step:5d} loss {loss.item():.4f}  {took:6.0f} s  {seen / took:6.0f} tokens/s", flush=True)
        if step % 250 == 249 or step == STEPS - 1:
            print(
                f"      near {solved(net, tokenizer, 'near'):.3f}  far {solved(net, tokenizer, 'far'):.3f}", flush=True
            )
            save(net, out)


def save(net: Net, out: Path) -> None:
    """Write the weights as 16-bit safetensors."""
    halves = {name: w.to(torch.float16).contiguous() for name, w in to_tensors(net).items()}
    save_file(halves, out / "little.safetensors", metadata={"license": "MIT", "architecture": ARCHITECTURE})


def load(net: Net, out: Path) -> None:
    """Take the weights that lie there."""
    held = load_file(out / "little.safetensors")
    with torch.no_grad():
        for name, weight in to_tensors(net).items():
            weight.copy_(held[name])


if __name__ == "__main__":
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("out", type=Path)
    parser.add_argument(
        "--resume", type=int, default=0, metavar="STEPS", help="already done, with their weights in OUT"
    )
    args = parser.parse_args()
    args.out.mkdir(parents=True, exist_ok=True)
    train(args.out, args.resume)
