"""Reading headers of a 100 GB model: time and memory of `kettlefield weigh`, beside the interpreter's own start.

The files are sparse: true headers, holes where the weights would be. One model is split into GGUF shards, one is
sharded safetensors with an index.

    python benchmarks/headers.py
"""

import json
import struct
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import gguf
import numpy as np

SHARDS, TENSORS, ROWS, COLUMNS = 20, 40, 8192, 8192  # 800 tensors of 128 MiB at 16 bits: 107 GB


def write_gguf(folder: Path) -> Path:
    """Split GGUF shards, with a vocabulary of 150,000 tokens in the first."""
    for number in range(1, SHARDS + 1):
        path = folder / f"big-{number:05d}-of-{SHARDS:05d}.gguf"
        writer = gguf.GGUFWriter(path, "dune")
        if number == 1:
            writer.add_block_count(SHARDS * TENSORS // 10)
            writer.add_context_length(131_072)
            writer.add_head_count(64)
            writer.add_head_count_kv(8)
            writer.add_embedding_length(COLUMNS)
            writer.add_array("tokenizer.ggml.tokens", [f"token-{i}" for i in range(150_000)])
        for index in range(TENSORS):
            place = (number - 1) * TENSORS + index
            name = f"blk.{place // 10}.ffn_{place % 10}.weight"
            writer.add_tensor_info(name, (ROWS, COLUMNS), np.dtype("float16"), 2 * ROWS * COLUMNS)
        writer.write_header_to_file()
        writer.write_kv_data_to_file()
        writer.write_ti_data_to_file()
        writer.close()
        with path.open("r+b") as file:
            file.truncate(path.stat().st_size + 64 + 2 * ROWS * COLUMNS * TENSORS)
    return folder / f"big-00001-of-{SHARDS:05d}.gguf"


def write_safetensors(folder: Path) -> Path:
    """Sharded safetensors with an index and a configuration."""
    index = {}
    for number in range(1, SHARDS + 1):
        name = f"model-{number:05d}-of-{SHARDS:05d}.safetensors"
        header = {}
        for at in range(TENSORS):
            place = (number - 1) * TENSORS + at
            begin = at * 2 * ROWS * COLUMNS
            tensor = f"model.layers.{place // 10}.mlp.w{place % 10}.weight"
            offsets = [begin, begin + 2 * ROWS * COLUMNS]
            header[tensor] = {"dtype": "BF16", "shape": [ROWS, COLUMNS], "data_offsets": offsets}
            index[tensor] = name
        raw = json.dumps(header).encode()
        with (folder / name).open("wb") as file:
            file.write(struct.pack("<Q", len(raw)) + raw)
            file.truncate(8 + len(raw) + 2 * ROWS * COLUMNS * TENSORS)
    config = {"num_hidden_layers": SHARDS * TENSORS // 10, "num_attention_heads": 64, "num_key_value_heads": 8}
    (folder / "config.json").write_text(
        json.dumps({**config, "hidden_size": COLUMNS, "max_position_embeddings": 131_072})
    )
    (folder / "model.safetensors.index.json").write_text(json.dumps({"weight_map": index}))
    return folder / "model.safetensors.index.json"


def run(code: str, *args: str) -> tuple[float, float]:
    """Seconds inside the process, and its highest resident memory in MiB; the median of five runs."""
    found = []
    for _ in range(5):
        # the high-water mark of this program's own memory; the parent's before the start is not in it
        report = "print(next(line.split()[1] for line in open('/proc/self/status') if line.startswith('VmHWM')))"
        began = time.perf_counter()
        done = subprocess.run(
            [sys.executable, "-c", f"{code}\n{report}", *args], capture_output=True, text=True, check=True
        )
        found.append((time.perf_counter() - began, int(done.stdout.split()[-1]) / 1024))
    return tuple(float(np.median(column)) for column in zip(*found, strict=True))  # type: ignore[return-value]


def main() -> None:
    """Print both models' figures beside a bare start."""
    read = "import sys\nfrom pathlib import Path\nfrom kettlefield.weights.formats import read_facts\n"
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        paths = {"GGUF, 20 shards": write_gguf(folder), "safetensors, 20 shards": write_safetensors(folder)}
        size = sum(path.stat().st_size for path in folder.glob("*.gguf")) / 1e9
        base_s, base_mib = run("pass")
        print(f"{'':24}{'seconds':>9}{'MiB':>7}{'x start':>9}   ({size:.0f} GB a model)")
        print(f"{'interpreter alone':24}{base_s:9.3f}{base_mib:7.0f}{1:9.1f}")
        for label, path in paths.items():
            took_s, mib = run(read + "f = read_facts(Path(sys.argv[1])); assert f.parameters > 5e10", str(path))
            print(f"{label:24}{took_s:9.3f}{mib:7.0f}{took_s / base_s:9.1f}")


if __name__ == "__main__":
    main()
