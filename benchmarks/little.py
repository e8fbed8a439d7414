"""The little model's decode rate and bytes at each level, beside what memory bandwidth would allow.

Run: python benchmarks/little.py [--tokens N]. One core. The baseline of the ratios is the same arithmetic on
weights that lie unpacked as 32-bit floats, measured between the levels of the same run. The ceiling is this
machine's copy bandwidth over the bytes of weights that one token reads, as `kettlefield weigh` works it out.
"""

import os

os.environ["OPENBLAS_NUM_THREADS"] = os.environ["OMP_NUM_THREADS"] = "1"

import argparse
import statistics
import tempfile
import time
from pathlib import Path

import numpy as np

from kettlefield.demo.little.blocks import F32, LEVELS
from kettlefield.demo.little.level_files import write_level
from kettlefield.demo.little.little_weights import Matrix, Weights, load_weights
from kettlefield.demo.little.network import Cache, Network
from kettlefield.rig.survey import own_bandwidth

PROMPT, ROUNDS, STREAMS = 64, 5, 6


def rate(network: Network, tokens: int, streams: int) -> float:
    """Decode rate over all streams, in tokens/s."""
    caches = [Cache(network.shape, PROMPT + tokens, 16) for _ in range(streams)]
    network.advance([(cache, [9] * PROMPT) for cache in caches])
    began = time.perf_counter()
    for step in range(tokens):
        network.advance([(cache, [10 + step % 90]) for cache in caches])
    return tokens * streams / (time.perf_counter() - began)


def unpacked(weights: Weights) -> Weights:
    """The same weights as 32-bit floats."""
    flat = {
        name: Matrix(np.ascontiguousarray(matrix.numbers()).view(np.uint8), F32, matrix.shape)
        for name, matrix in weights.matrices.items()
    }
    return Weights(
        name=weights.name,
        level="f32",
        shape=weights.shape,
        vocabulary=weights.vocabulary,
        matrices=flat,
        norms=weights.norms,
    )


def main() -> None:
    """Measure every level in turns with the baseline."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--tokens", type=int, default=120)
    args = parser.parse_args()
    bandwidth = own_bandwidth()
    print(f"bandwidth {bandwidth / 2**30:.1f} GiB/s; {args.tokens} tokens after {PROMPT}, median of {ROUNDS} rounds")
    print(
        f"{'level':8} {'KiB':>6} {'1 stream':>9} {'6 streams':>10} {'of f32':>7} {'ceiling':>9} {'of it':>6}   tokens/s"
    )
    with tempfile.TemporaryDirectory() as folder:
        for level in LEVELS:
            path = Path(folder) / f"{level}.gguf"
            write_level(level, path)
            weights = load_weights(path)
            network, baseline = Network(weights), Network(unpacked(weights))
            rounds = [[rate(network, args.tokens, 1), rate(baseline, args.tokens, 1)] for _ in range(ROUNDS)]
            one = statistics.median(own for own, _ in rounds)
            ratio = statistics.median(own / flat for own, flat in rounds)
            many = statistics.median(rate(network, args.tokens // 2, STREAMS) for _ in range(ROUNDS))
            ceiling = bandwidth / weights.size_bytes
            print(
                f"{level:8} {weights.size_bytes / 1024:6.0f} {one:9.0f} {many:10.0f} {ratio:7.2f} {ceiling:9.0f}"
                f" {one / ceiling:6.1%}"
            )


if __name__ == "__main__":
    main()
