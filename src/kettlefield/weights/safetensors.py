"""safetensors headers and the configuration beside them -> facts, the two checked against each other."""

import contextlib
import re
from pathlib import Path
from typing import Any

from kettlefield.core.errors import InputError
from kettlefield.core.plaintext import shorten, visible
from kettlefield.core.sizing.requirements import window_pattern
from kettlefield.weights.facts import ModelFacts, TensorFacts, WeightsFormat, is_input_table, layer_of, read_licence
from kettlefield.weights.safetensors_header import (
    TYPE_BITS,
    StoredTensor,
    check_index,
    find_files,
    read_header,
    read_object,
)

MAX_LAYERS = 4096
MAX_CARD_BYTES = 2**20
# whole numbers that hold several weights each, and what goes with them
_PACKED = re.compile(r"\.(?:qweight|weight_packed)$")
_BESIDE_PACKED = re.compile(r"\.(?:scales|qzeros|g_idx|weight_scale|weight_zero_point|weight_shape)$")
_FRONT_LICENCE = re.compile(r"^license:\s*[\"']?([^\"'\n]+?)[\"']?\s*$", re.MULTILINE)


def read_safetensors_facts(path: Path) -> ModelFacts:
    """What a safetensors file, or the index of a sharded model, is; ``config.json`` beside it says the rest.

    Raises
    ------
    InputError
        A file is damaged or missing, or the configuration contradicts the tensors.
    """
    files = find_files(path)
    metadata: dict[str, Any] = {}
    stored: list[StoredTensor] = []
    entries: dict[str, str] = {}
    for file in files:
        more, tensors = read_header(file)
        metadata = {**more, **metadata}
        stored += tensors
        entries.update({tensor.name: file.name for tensor in tensors})
    if not stored:
        raise InputError("holds no tensors", str(path), "Name the model's weights.")
    if len(entries) < len(stored):
        raise InputError("names a tensor in two shards", str(path), "The shards do not belong together.")
    if path.name.endswith(".index.json"):
        check_index(path, entries)
    config_path = path.parent / "config.json"
    written = read_object(config_path) if config_path.is_file() else {}
    inner = written.get("text_config")
    config = _Config(config_path, {**written, **inner} if isinstance(inner, dict) else written)
    bits = config.packed_bits()
    facts = tuple(_tensor(tensor, bits) for tensor in stored)
    layers = config.count("num_hidden_layers", most=MAX_LAYERS) or _layers_of(facts)
    heads = config.count("num_attention_heads", most=1 << 20)
    kv_heads = config.count("num_key_value_heads", most=1 << 20) or heads or 0
    width = config.count("hidden_size")
    head_size = config.count("head_dim") or (width // heads if width and heads else None)
    _check(config_path, stored, facts, config, layers, kv_heads * head_size if head_size else None)
    shared = min(config.count("num_kv_shared_layers") or 0, layers)
    windows = window_pattern(layers, config.window(), config.layer_windows(layers))
    return ModelFacts(
        path=path,
        files=tuple(files),
        format="safetensors",
        model=_model_name(path, written),
        architecture=str(written.get("model_type") or metadata.get("architecture") or "unknown"),
        level=_level(facts, bits),
        tensors=facts,
        weights_bytes=sum(tensor.size_bytes for tensor in facts),
        context_tokens=config.count("max_position_embeddings"),
        layers=layers,
        heads=heads,
        kv_heads=(kv_heads,) * (layers - shared) if head_size else (),
        head_size=head_size,
        value_size=config.count("v_head_dim") or head_size,
        windows=tuple(windows[: layers - shared]) if head_size else (),
        shared_layers=shared,
        experts=config.first("num_local_experts", "num_experts", "n_routed_experts"),
        experts_used=config.first("num_experts_per_tok", "num_experts_per_token"),
        vocabulary=config.count("vocab_size"),
        chat_template=_has_chat_template(path.parent),
        infill_markers={},
        licence=read_licence(metadata.get("license") or _card_licence(path.parent)),
        remarks=() if written else ("no config.json beside it: context, heads and cache are not known",),
    )


class _Config:
    """``config.json``, read with suspicion."""

    def __init__(self, path: Path, data: dict[str, Any]) -> None:
        self._path, self._data = path, data

    def count(self, name: str, *, most: int = 1 << 40) -> int | None:
        """A number of 0 or more; None when it is not there."""
        value = self._data.get(name)
        if value is None:
            return None
        if isinstance(value, bool) or not isinstance(value, int) or not 0 <= value <= most:
            shown = shorten(visible(repr(value), keep_lines=False), 60)
            raise InputError(f"says {name} is {shown}", str(self._path), "Correct it, or fetch the model again.")
        return value

    def first(self, *names: str) -> int | None:
        """The first of several names that is there."""
        return next((value for name in names if (value := self.count(name))), None)

    def window(self) -> int | None:
        """The sliding window; none where the configuration switches it off."""
        return None if self._data.get("use_sliding_window") is False else self.count("sliding_window")

    def layer_windows(self, layers: int) -> list[bool] | int | None:
        """Which layers have the window, where the configuration lists them."""
        kinds = self._data.get("layer_types")
        if isinstance(kinds, list) and len(kinds) == layers:
            return ["sliding" in str(kind) for kind in kinds]
        return self.count("sliding_window_pattern")

    def packed_bits(self) -> int | None:
        """Bits of a packed weight, where the configuration says that weights are packed."""
        table = self._data.get("quantization_config")
        value = table.get("bits") if isinstance(table, dict) else None
        return value if isinstance(value, int) and value in {2, 3, 4, 5, 6, 8} else None


def _tensor(tensor: StoredTensor, packed_bits: int | None) -> TensorFacts:
    parameters, kind = tensor.elements, tensor.type_name
    if packed_bits and _PACKED.search(tensor.name) and TYPE_BITS.get(kind):
        parameters, kind = parameters * TYPE_BITS[kind] // packed_bits, f"packed {packed_bits}-bit"
    elif packed_bits and _BESIDE_PACKED.search(tensor.name):
        parameters = 0  # scales and zero points serve weights that are counted already; their bytes count
    return TensorFacts(name=tensor.name, parameters=parameters, size_bytes=tensor.size_bytes, type_name=kind)


def _layers_of(tensors: tuple[TensorFacts, ...]) -> int:
    return 1 + max((layer for tensor in tensors if (layer := layer_of(tensor.name)) is not None), default=-1)


def _check(
    path: Path,
    stored: list[StoredTensor],
    facts: tuple[TensorFacts, ...],
    config: _Config,
    layers: int,
    kv_width: int | None,
) -> None:
    """Refuse a configuration that the tensors contradict."""

    def refuse(what: str) -> None:
        raise InputError(
            f"contradicts the tensors: {what}", str(path), "Fetch weights and configuration together again."
        )

    counted = _layers_of(facts)
    if counted and counted != layers:
        refuse(f"it says {layers} layers, the tensors have {counted}")
    vocabulary = config.count("vocab_size")
    for tensor in stored:
        rows = tensor.shape[0] if len(tensor.shape) == 2 else None
        if rows is None or TYPE_BITS.get(tensor.type_name, 0) < 16 or "I" in tensor.type_name:
            continue
        if is_input_table(tensor.name) and vocabulary is not None and rows < vocabulary:
            refuse(f"it says {vocabulary:,} tokens, the table has {rows:,} rows")
        if tensor.name.endswith("k_proj.weight") and kv_width is not None and rows != kv_width:
            refuse(f"its key heads make {kv_width:,} rows, {tensor.name} has {rows:,}")


def _level(tensors: tuple[TensorFacts, ...], packed_bits: int | None) -> str:
    if packed_bits:
        return f"int{packed_bits}"
    by_type: dict[str, int] = {}
    for tensor in tensors:
        by_type[tensor.type_name] = by_type.get(tensor.type_name, 0) + tensor.parameters
    return max(by_type, key=lambda kind: by_type[kind]).lower()


def _model_name(path: Path, config: dict[str, Any]) -> str:
    named = config.get("_name_or_path")
    if isinstance(named, str) and named.strip("./ "):
        return shorten(visible(named.rstrip("/").rsplit("/", 1)[-1], keep_lines=False), 80)
    return path.resolve().parent.name if path.name.startswith("model") else path.name.removesuffix(".safetensors")


def _has_chat_template(folder: Path) -> bool:
    if (folder / "chat_template.jinja").is_file():
        return True
    path = folder / "tokenizer_config.json"
    return path.is_file() and bool(read_object(path).get("chat_template"))


def _card_licence(folder: Path) -> str | None:
    """The licence in the front matter of the model card beside the weights."""
    with contextlib.suppress(OSError):
        text = (folder / "README.md").read_bytes()[:MAX_CARD_BYTES].decode("utf-8", errors="replace")
        if text.startswith("---"):
            match = _FRONT_LICENCE.search(text[: text.find("\n---", 3) + 1])
            return match[1] if match else None
    return None


SAFETENSORS = WeightsFormat(
    name="safetensors",
    title="safetensors",
    endings=(".safetensors.index.json", ".safetensors"),
    matches=lambda path, _magic: path.name.endswith((".safetensors", ".safetensors.index.json")),
    read=read_safetensors_facts,
)
