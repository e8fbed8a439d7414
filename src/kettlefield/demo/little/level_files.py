"""Every level of the little model as a GGUF file, written from the trained weights that ship with the tool."""

import sys
from importlib import resources
from pathlib import Path
from typing import Any

import numpy as np

from kettlefield.core.errors import InputError
from kettlefield.demo.little.block_packing import pack
from kettlefield.demo.little.blocks import LEVELS, Floats, type_named
from kettlefield.demo.little.little_weights import ARCHITECTURE, Shape, read_trained, tensor_shapes
from kettlefield.demo.little.tokens import CHARACTERS, INFILL_MARKERS, Vocabulary, read_vocabulary

NAME = "eelgrass-1m"
SHAPE = Shape(
    vocabulary=512,
    width=256,
    layers=3,
    heads=8,
    kv_heads=2,
    head_size=32,
    feed_forward=256,
    context_tokens=512,
    rotary_base=10_000.0,
    epsilon=1e-5,
)
TEMPLATE = "{% for m in messages %}<|{{ m.role }}|>{{ m.content }}{% endfor %}<|assistant|>"
_FILE_TYPES = {"f16": 1, "q8_0": 7, "q6_k": 18, "q5_1": 9, "q4_1": 3, "q3_k_s": 11, "q2_k": 10}  # of the format


def model_folder() -> Path:
    """Where the trained weights, their vocabulary and their card lie."""
    return Path(str(resources.files("kettlefield") / "demo" / "little" / "model"))


def write_level(level: str, path: Path, source: Path | None = None) -> None:
    """Write one level: its matrices in the level's blocks, its norms as 32-bit floats, a true header.

    Parameters
    ----------
    level : str
        One of ``LEVELS``.
    path : Path
        The GGUF file; overwritten.
    source : Path, optional
        Folder of ``little.safetensors`` and ``vocabulary.json``; the shipped one by default.

    Raises
    ------
    InputError
        There is no such level, or the trained weights are damaged or not this model's.
    """
    if level not in LEVELS:
        raise InputError(f'there is no level "{level}"', str(path), f"Levels: {', '.join(LEVELS)}.")
    folder = source or model_folder()
    tensors = read_trained(folder / "little.safetensors")
    vocabulary = read_vocabulary(folder / "vocabulary.json")
    wanted = tensor_shapes(SHAPE)
    if {name: tensor.shape for name, tensor in tensors.items()} != wanted or len(vocabulary.pieces) != SHAPE.vocabulary:
        raise InputError("is not the little model", str(folder), "Restore it from the package, or train it again.")
    _write(level, path, {name: tensors[name] for name in wanted}, vocabulary)


def _write(
    level: str,
    path: Path,
    tensors: dict[str, Floats],
    vocabulary: Vocabulary,
) -> None:
    import gguf  # noqa: PLC0415 - takes a fifth of a second, and serving needs no writer

    writer = gguf.GGUFWriter(path, ARCHITECTURE)
    writer.add_name(NAME)
    writer.add_string("general.basename", NAME)
    writer.add_license("MIT")
    writer.add_file_type(_FILE_TYPES[level])
    writer.add_string(f"{ARCHITECTURE}.level", level)
    writer.add_context_length(SHAPE.context_tokens)
    writer.add_block_count(SHAPE.layers)
    writer.add_embedding_length(SHAPE.width)
    writer.add_feed_forward_length(SHAPE.feed_forward)
    writer.add_head_count(SHAPE.heads)
    writer.add_head_count_kv(SHAPE.kv_heads)
    writer.add_key_length(SHAPE.head_size)
    writer.add_value_length(SHAPE.head_size)
    writer.add_rope_freq_base(SHAPE.rotary_base)
    writer.add_layer_norm_rms_eps(SHAPE.epsilon)
    writer.add_vocab_size(SHAPE.vocabulary)
    _add_vocabulary(writer, vocabulary)
    for name, values in tensors.items():
        if values.ndim == 1:
            writer.add_tensor(name, np.ascontiguousarray(values, np.float32))
        else:
            kind = type_named(LEVELS[level])
            raw = gguf.GGMLQuantizationType(kind.number)
            writer.add_tensor(name, pack(values, kind.name), raw_dtype=raw)
    writer.write_header_to_file()
    writer.write_kv_data_to_file()
    writer.write_tensors_to_file()
    writer.close()


def _add_vocabulary(writer: Any, vocabulary: Vocabulary) -> None:
    number = {piece: at for at, piece in enumerate(vocabulary.pieces)}
    marks, plain = 3, 1  # token types of the format
    writer.add_tokenizer_model(f"{ARCHITECTURE}-pairs")
    writer.add_token_list(list(vocabulary.pieces))
    writer.add_token_types([marks] * len(vocabulary.specials) + [plain] * (len(CHARACTERS) + len(vocabulary.merges)))
    writer.add_array(f"{ARCHITECTURE}.tokenizer.pairs", [number[part] for pair in vocabulary.merges for part in pair])
    writer.add_chat_template(TEMPLATE)
    for role, mark in zip(("prefix", "suffix", "middle"), INFILL_MARKERS, strict=True):
        writer.add_uint32(f"tokenizer.ggml.{role}_token_id", number[mark])


def main() -> int:
    """``python -m kettlefield.demo.little.level_files LEVEL FILE``: write one level."""
    level, path = sys.argv[1:]
    write_level(level, Path(path))
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
