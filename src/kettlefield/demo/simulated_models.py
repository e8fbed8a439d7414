"""Made-up models: sparse weights files with a true header, and how fast each would be on a made-up card."""

import hashlib
import json
from collections.abc import Sequence
from functools import cache
from pathlib import Path
from typing import Any

import msgspec

from kettlefield.core.errors import InputError
from kettlefield.rig.simulated_card import CardFile
from kettlefield.weights.digests import know_digest
from kettlefield.weights.gguf_header import GgufHeader, read_gguf

ARCHITECTURE = "saltmarsh"
DIGESTS = Path(__file__).parent / "digests.json"  # written by scripts/demo_digests.py
_FILE_TYPES = {"f16": 1, "q8_0": 7, "q4_k_m": 15, "q2_k": 10}  # numbers of the format, for the level's label
# which block type a group of tensors has at a level: (most tensors, those that matter most)
LEVEL_TYPES = {
    "f16": ("F16", "F16"),
    "q8_0": ("Q8_0", "Q8_0"),
    "q4_k_m": ("Q4_K", "Q6_K"),
    "q2_k": ("Q2_K", "Q3_K"),
}


class MadeUpModel(msgspec.Struct, frozen=True, kw_only=True):
    """A model that does not exist."""

    name: str
    title: str
    layers: int
    width: int
    heads: int
    kv_heads: int
    feed_forward: int
    vocabulary: int
    context_tokens: int
    ability: float  # log-odds of solving an exercise of middling difficulty at full precision
    frailty: float  # how much it loses as bits fall

    @property
    def head_size(self) -> int:
        """Width of one head."""
        return self.width // self.heads


class LoadedModel(msgspec.Struct, frozen=True, kw_only=True):
    """What the simulated server knows of the file it serves."""

    name: str
    weight_bytes: int
    parameters: int
    kv_bytes_per_token: int  # 16-bit elements
    ability: float
    frailty: float

    @property
    def bits_per_weight(self) -> float:
        """Bits of the file per parameter."""
        return 8 * self.weight_bytes / self.parameters


MODELS = {
    model.name: model
    for model in (
        MadeUpModel(
            name="marram-1.2b",
            title="Marram 1.2B (simulated)",
            layers=22,
            width=2048,
            heads=16,
            kv_heads=4,
            feed_forward=5632,
            vocabulary=48_000,
            context_tokens=16_384,
            ability=3.0,
            frailty=3.6,
        ),
        MadeUpModel(
            name="kelpling-400m",
            title="Kelpling 400M (simulated)",
            layers=24,
            width=1024,
            heads=16,
            kv_heads=8,
            feed_forward=3072,
            vocabulary=48_000,
            context_tokens=8_192,
            ability=1.2,
            frailty=4.5,
        ),
    )
}


def write_weights(model: MadeUpModel, level: str, path: Path) -> None:
    """Write a made-up model at a level: the header of a real file, and a hole where the data would be.

    Raises
    ------
    ValueError
        The level is none of ``LEVEL_TYPES``.
    """
    import gguf  # noqa: PLC0415 - takes a fifth of a second, and only the demo writes files
    import numpy as np  # noqa: PLC0415

    if level not in LEVEL_TYPES:
        raise ValueError(f"level={level!r}: wanted one of {sorted(LEVEL_TYPES)}")
    writer = gguf.GGUFWriter(path, ARCHITECTURE)
    writer.add_name(model.title)
    writer.add_license("MIT")
    writer.add_file_type(_FILE_TYPES[level])
    writer.add_context_length(model.context_tokens)
    writer.add_block_count(model.layers)
    writer.add_embedding_length(model.width)
    writer.add_feed_forward_length(model.feed_forward)
    writer.add_head_count(model.heads)
    writer.add_head_count_kv(model.kv_heads)
    writer.add_key_length(model.head_size)
    writer.add_value_length(model.head_size)
    writer.add_vocab_size(model.vocabulary)
    writer.add_string("tokenizer.chat_template", "{% for m in messages %}<|{{ m.role }}|>{{ m.content }}{% endfor %}")
    writer.add_bool("simulated.is_simulated", True)
    writer.add_string("simulated.model", model.name)
    writer.add_float32("simulated.ability", model.ability)
    writer.add_float32("simulated.frailty", model.frailty)
    data_bytes = 0
    for name, shape in _tensors(model):
        kind = _tensor_type(gguf, name, level, shape)
        size = _tensor_bytes(gguf, kind, shape)
        # numpy order: the header holds the reverse
        writer.add_tensor_info(name, shape, np.dtype("float16"), size, raw_dtype=kind)
        data_bytes += -(-size // 32) * 32
    writer.write_header_to_file()
    writer.write_kv_data_to_file()
    writer.write_ti_data_to_file()
    writer.close()
    header = read_gguf(path)
    with path.open("r+b") as file:
        file.truncate(header.data_offset_bytes + data_bytes)
    known = _known_digests().get(hole_key(path, header.data_offset_bytes))
    if known is not None:
        know_digest(path, known)


def hole_key(path: Path, header_bytes: int) -> str:
    """What a file that is a header before a hole is told by: the SHA-256 of the header, and the size of it all."""
    with path.open("rb") as file:
        return f"{hashlib.sha256(file.read(header_bytes)).hexdigest()}|{path.stat().st_size}"


@cache
def _known_digests() -> dict[str, str]:
    """SHA-256 of the files that this module writes, by their ``hole_key``: reading gigabytes of nothing takes long.

    A file that another version of the GGUF package writes otherwise is not among them, and is read as any other.
    """
    return json.loads(DIGESTS.read_text(encoding="utf-8"))  # type: ignore[no-any-return]


def load_model(path: Path) -> LoadedModel:
    """What the simulated server needs of a weights file that ``write_weights`` made.

    Raises
    ------
    InputError
        The file is not a GGUF, or no simulated model.
    """
    header = read_gguf(path)
    meta = header.metadata
    if not meta.get("simulated.is_simulated"):
        raise InputError(
            "is not a simulated model", str(path), "The simulated server serves only files that the demo wrote."
        )
    return LoadedModel(
        name=str(meta["simulated.model"]),
        weight_bytes=header.file_bytes,
        parameters=sum(tensor.elements for tensor in header.tensors),
        kv_bytes_per_token=_kv_bytes_per_token(header),
        ability=float(meta["simulated.ability"]),
        frailty=float(meta["simulated.frailty"]),
    )


def _kv_bytes_per_token(header: GgufHeader) -> int:
    def field(name: str) -> int:
        return int(header.metadata[f"{ARCHITECTURE}.{name}"])

    per_layer = field("attention.head_count_kv") * field("attention.key_length")
    return field("block_count") * per_layer * 2 * 2  # keys and values, 2 bytes each


def _tensors(model: MadeUpModel) -> list[tuple[str, tuple[int, ...]]]:
    """Names and shapes, rows first; embeddings are tied, so there is no output matrix."""
    width, kv_width, inner = model.width, model.kv_heads * model.head_size, model.feed_forward
    tensors: list[tuple[str, tuple[int, ...]]] = [
        ("token_embd.weight", (model.vocabulary, width)),
        ("output_norm.weight", (width,)),
    ]
    for layer in range(model.layers):
        tensors += [
            (f"blk.{layer}.attn_norm.weight", (width,)),
            (f"blk.{layer}.attn_q.weight", (width, width)),
            (f"blk.{layer}.attn_k.weight", (kv_width, width)),
            (f"blk.{layer}.attn_v.weight", (kv_width, width)),
            (f"blk.{layer}.attn_output.weight", (width, width)),
            (f"blk.{layer}.ffn_norm.weight", (width,)),
            (f"blk.{layer}.ffn_gate.weight", (inner, width)),
            (f"blk.{layer}.ffn_up.weight", (inner, width)),
            (f"blk.{layer}.ffn_down.weight", (width, inner)),
        ]
    return tensors


def _tensor_type(gguf: Any, name: str, level: str, shape: tuple[int, ...]) -> Any:
    most, finer = LEVEL_TYPES[level]
    if len(shape) == 1:
        return gguf.GGMLQuantizationType.F32
    wanted = finer if "attn_v" in name or "token_embd" in name else most
    return gguf.GGMLQuantizationType[wanted]


def _tensor_bytes(gguf: Any, kind: Any, shape: tuple[int, ...]) -> int:
    block, size = gguf.GGML_QUANT_SIZES[kind]
    elements = 1
    for count in shape:
        elements *= count
    return int(elements // block * size)


STEP_OVERHEAD_S = 0.0004  # launching a step's work
OVERHEAD_BYTES = 160 * 2**20  # buffers that any server keeps


class Physics(msgspec.Struct, frozen=True):
    """One model on one card."""

    model: LoadedModel
    card: CardFile

    def load_s(self) -> float:
        """Seconds to bring the weights into the card's memory."""
        return self.model.weight_bytes / self.card.load_bytes_s

    def memory_bytes(self, context_tokens: int, slots: int) -> int:
        """Bytes on the card: weights, the key/value cache of every slot at its full context, overhead."""
        cache = self.model.kv_bytes_per_token * context_tokens * slots
        return self.model.weight_bytes + cache + OVERHEAD_BYTES

    def prefill_s(self, prompt_tokens: int) -> float:
        """Seconds to read a prompt: two operations a parameter and token, or one pass over the weights."""
        compute_s = 2 * self.model.parameters * prompt_tokens / self.card.compute_flops
        return max(compute_s, self.model.weight_bytes / self.card.bandwidth_bytes_s) + STEP_OVERHEAD_S

    def step_s(self, depths_tokens: Sequence[int]) -> float:
        """Seconds for one decode step of all active slots: the weights once, each slot's cache, one overhead."""
        cache = self.model.kv_bytes_per_token * sum(depths_tokens)
        read_s = (self.model.weight_bytes + cache) / self.card.bandwidth_bytes_s
        compute_s = 2 * self.model.parameters * len(depths_tokens) / self.card.compute_flops
        return max(read_s, compute_s) + STEP_OVERHEAD_S
