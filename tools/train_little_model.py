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
from grammar.tasks import PARTS, Part, code_of, draw_tasks, lines
from grammar.texts import FORM, SPECIALS, Text, draw_text, prompt_of
from little_card import Trained, write_card
from little_net import Net, to_tensors
from orthogonal import Orthogonal
from safetensors.torch import load_file, save_file
from torch.nn import functional

from kettlefield.demo.little.level_files import SHAPE
from kettlefield.demo.little.little_weights import ARCHITECTURE
from kettlefield.demo.little.tokens import CHARACTERS, Tokenizer, Vocabulary, read_vocabulary

SEED, STEPS = 20, 6000
TOKENS_A_STEP = 4096
POOL = 768  # texts that are sorted by length before they are cut into batches, so that little is padding
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
    """What part of the full learning rate a step has: up over 50 steps, then flat, then down to a little at the end."""
    points = ((0, 0.02), (50, 1.0), (2000, 1.0), (3000, 0.67), (STEPS, 0.01))
    return float(np.interp(step, *zip(*points, strict=True)))


def train(out: Path, done: int) -> None:
    """Train, and write weights, vocabulary and card; so many steps are done, and what they led to lies there."""
    torch.manual_seed(SEED)
    if not done:
        (out / "vocabulary.json").write_bytes(msgspec.json.format(msgspec.json.encode(make_vocabulary()), indent=1))
    tokenizer, net = Tokenizer(read_vocabulary(out / "vocabulary.json")), Net(SHAPE)
    if done:
        load(net, out)
    optimizers = make_optimizers(net)
    parameters = sum(weight.numel() for weight in net.parameters())
    print(parameters, "parameters", flush=True)
    began, seen, scores = time.perf_counter(), 0, dict[str, float]()
    for step, (tokens, learned) in enumerate(itertools.islice(batches(tokenizer, SEED), STEPS)):
        seen += tokens.numel()
        if step < done:
            continue
        loss = learn(net, optimizers, share_of_rate(step), tokens, learned)
        took = time.perf_counter() - began
        if step % 50 == 0 or step == STEPS - 1:
            print(f"{step:5d} loss {loss:.4f}  {took:6.0f} s", flush=True)
        if step % 500 == 499 or step == STEPS - 1:
            scores = {part: solved(net, tokenizer, part) for part in PARTS}
            found = ", ".join(f"{part} {score:.3f}" for part, score in scores.items())
            print(f"      word for word: {found}", flush=True)
            save(net, out)
    write_card(out, Trained(parameters=parameters, seed=SEED, steps=STEPS, done=done, tokens=seen, scores=scores))


def make_optimizers(net: Net) -> list[torch.optim.Optimizer]:
    """One for the matrices, one for norms and embeddings; each knows the peak of its learning rate."""
    matrices = [w for name, w in net.named_parameters() if w.ndim == 2 and "embed" not in name]
    others = [w for name, w in net.named_parameters() if w.ndim == 1 or "embed" in name]
    return [
        Orthogonal(matrices, lr=0.02, momentum=0.95, weight_decay=0.01),
        torch.optim.AdamW(others, lr=0.004, betas=(0.9, 0.95), weight_decay=0.0),
    ]


def learn(
    net: Net, optimizers: list[torch.optim.Optimizer], share: float, tokens: torch.Tensor, learned: torch.Tensor
) -> float:
    """One step at a share of each optimizer's rate; the loss before it, per token that is to be learned."""
    hidden = net.hidden(tokens[:, :-1])[learned[:, 1:]]
    loss = functional.cross_entropy(net.logits(hidden), tokens[:, 1:][learned[:, 1:]])
    net.zero_grad()
    loss.backward()
    for optimizer in optimizers:
        for group in optimizer.param_groups:
            group["lr"] = optimizer.defaults["lr"] * share
        optimizer.step()
    return loss.item()


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
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("out", type=Path)
    parser.add_argument(
        "--done",
        type=int,
        default=0,
        metavar="STEPS",
        help="go on after so many, from the weights in OUT; the optimizers' momentum begins anew",
    )
    args = parser.parse_args()
    args.out.mkdir(parents=True, exist_ok=True)
    train(args.out, args.done)
