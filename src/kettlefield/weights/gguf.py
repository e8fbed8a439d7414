"""GGUF headers -> facts: shards joined, extents checked against the files, types and levels named."""

import re
from functools import cache
from pathlib import Path
from typing import Any

from kettlefield.core.errors import InputError
from kettlefield.core.plaintext import shorten, visible
from kettlefield.core.sizing.requirements import window_pattern
from kettlefield.weights.facts import ModelFacts, TensorFacts, WeightsFormat, read_licence
from kettlefield.weights.gguf_header import GgufHeader, LongArray, Tensor, read_gguf, read_item

_SHARD = re.compile(r"(?P<stem>.+)-(?P<number>\d{5})-of-(?P<count>\d{5})\.gguf")
_MARKERS = {"prefix": ("fim_pre", "prefix"), "suffix": ("fim_suf", "suffix"), "middle": ("fim_mid", "middle")}
MAX_LAYERS = 4096
MAX_SHARDS = 10_000


@cache
def _block_types() -> dict[int, tuple[str, int, int]]:
    """Type number -> name, elements a block, bytes a block, from the format's own package."""
    import gguf  # noqa: PLC0415 - a fifth of a second

    return {int(kind): (kind.name, block, size) for kind, (block, size) in gguf.GGML_QUANT_SIZES.items()}


@cache
def _level_names() -> dict[int, str]:
    import gguf  # noqa: PLC0415

    return {int(kind): kind.name.removeprefix("MOSTLY_").removeprefix("ALL_").lower() for kind in gguf.LlamaFileType}


def read_gguf_facts(path: Path) -> ModelFacts:
    """What a GGUF file, or a set of split ones named by any of its shards, is.

    Raises
    ------
    InputError
        A file is damaged, a shard is missing, tensors overlap or reach beyond the file, or the header
        contradicts itself.
    """
    files = _shards(path)
    headers = [read_gguf(file) for file in files]
    meta = headers[0].metadata
    tensors: list[TensorFacts] = []
    unknown: set[str] = set()
    for file, header in zip(files, headers, strict=True):
        tensors += _tensors(file, header, unknown)
    if not tensors:
        raise InputError("holds no tensors", str(path), "It is a vocabulary or adapter file; name the model's weights.")
    _check_names(path, tensors)
    remarks = [f"{name}: unknown tensor type, its bits computed from its size in the file" for name in sorted(unknown)]
    architecture = str(meta.get("general.architecture", "unknown"))
    reader = _Keys(path, architecture, meta)
    layers = reader.count("block_count", most=MAX_LAYERS) or 0
    window, pattern = (
        reader.count("attention.sliding_window"),
        meta.get(f"{architecture}.attention.sliding_window_pattern"),
    )
    if window and pattern is None:
        # which layers have it is then known to the server's code alone
        remarks.append(f"a window of {window:,} tokens, not said of which layers: the larger need is assumed")
        window = None
    windows = window_pattern(layers, window, pattern)
    heads = reader.per_layer("attention.head_count", layers)
    kv_heads = reader.per_layer("attention.head_count_kv", layers) or heads
    width = reader.count("embedding_length")
    derived = width // heads[0] if width and heads and heads[0] else None
    key_size = reader.count("attention.key_length") or derived
    shared = min(reader.count("attention.shared_kv_layers") or 0, layers)
    level, level_remark = _level(meta, tensors)
    caching = [(count, window) for count, window in zip(kv_heads, windows, strict=False) if count][: layers - shared]
    return ModelFacts(
        path=path,
        files=tuple(files),
        format="GGUF",
        model=str(meta.get("general.name") or path.name.removesuffix(".gguf")),
        architecture=architecture,
        level=level,
        tensors=tuple(tensors),
        weights_bytes=sum(tensor.size_bytes for tensor in tensors),
        context_tokens=reader.count("context_length"),
        layers=layers,
        heads=heads[0] if heads else None,
        kv_heads=tuple(count for count, _ in caching),
        head_size=key_size,
        value_size=reader.count("attention.value_length") or key_size,
        windows=tuple(window for _, window in caching),
        shared_layers=shared,
        experts=reader.count("expert_count") or None,
        experts_used=reader.count("expert_used_count") or None,
        vocabulary=reader.count("vocab_size") or _length(meta.get("tokenizer.ggml.tokens")),
        chat_template=bool(meta.get("tokenizer.chat_template")),
        infill_markers=_markers(files[0], meta),
        licence=read_licence(meta.get("general.license")),
        remarks=(*remarks, *level_remark),
    )


class _Keys:
    """An architecture's keys, read with suspicion."""

    def __init__(self, path: Path, architecture: str, meta: dict[str, Any]) -> None:
        self._path, self._architecture, self._meta = path, architecture, meta

    def count(self, name: str, *, most: int = 1 << 40) -> int | None:
        """A number of 0 or more; None when it is not there."""
        value = self._meta.get(f"{self._architecture}.{name}")
        if value is None:
            return None
        if isinstance(value, list) and value and all(isinstance(item, int) for item in value):
            value = max(value)
        if isinstance(value, bool) or not isinstance(value, int) or not 0 <= value <= most:
            raise self._refuse(name, value)
        return value

    def per_layer(self, name: str, layers: int) -> list[int]:
        """A number for each layer, from one for all or a list of them; empty when it is not there."""
        value = self._meta.get(f"{self._architecture}.{name}")
        if value is None:
            return []
        values = value if isinstance(value, list) else [value] * layers
        if len(values) < layers or not all(isinstance(item, int) and 0 <= item < 1 << 20 for item in values):
            raise self._refuse(name, value)
        return values[:layers]

    def _refuse(self, name: str, value: object) -> InputError:
        shown = shorten(visible(repr(value), keep_lines=False), 60)
        return InputError(f"says {name} is {shown}", str(self._path), "The file is damaged or foreign.")


def _shards(path: Path) -> list[Path]:
    match = _SHARD.fullmatch(path.name)
    if match is None:
        return [path]
    count = int(match["count"])
    if not 0 < int(match["number"]) <= count <= MAX_SHARDS:
        raise InputError("is not a shard of its set by its own name", str(path), "Restore the file's original name.")
    files = [path.with_name(f"{match['stem']}-{number:05d}-of-{count:05d}.gguf") for number in range(1, count + 1)]
    missing = [file.name for file in files if not file.is_file()]
    if missing:
        raise InputError(
            f"{len(missing)} of {count} shards missing, first {missing[0]}",
            str(path),
            "Fetch all shards into one folder.",
        )
    return files


def _tensors(path: Path, header: GgufHeader, unknown: set[str]) -> list[TensorFacts]:
    room = header.file_bytes - header.data_offset_bytes
    ordered = sorted(header.tensors, key=lambda tensor: tensor.offset_bytes)
    ends = [tensor.offset_bytes for tensor in ordered[1:]] + [room] * bool(ordered)
    tensors = {}
    for tensor, end in zip(ordered, ends, strict=True):
        fact = _tensor(path, tensor, end)
        name = visible(tensor.name, keep_lines=False)
        if tensor.offset_bytes + fact.size_bytes > room:
            missing = tensor.offset_bytes + fact.size_bytes - room
            raise InputError(f'is truncated: tensor "{name}" lacks {missing:,} bytes', str(path), "Fetch it again.")
        if tensor.offset_bytes + fact.size_bytes > end:
            raise InputError(f'tensor "{name}" overlaps the next one', str(path), "It is damaged; fetch it again.")
        if tensor.type_id not in _block_types():
            unknown.add(fact.type_name)
        tensors[tensor.name] = fact
    return [tensors[tensor.name] for tensor in header.tensors if tensor.name in tensors]


def _tensor(path: Path, tensor: Tensor, end: int) -> TensorFacts:
    name, block, size = _block_types().get(tensor.type_id, (f"type {tensor.type_id}", 0, 0))
    elements = tensor.elements
    if not 0 < elements < 1 << 50:
        shown = visible(tensor.name, keep_lines=False)
        raise InputError(f'gives tensor "{shown}" {elements:,} elements', str(path), "The file is damaged or foreign.")
    if block and tensor.shape[0] % block:
        shown = visible(tensor.name, keep_lines=False)
        what = f'tensor "{shown}" of {name} has rows of {tensor.shape[0]}, which are not whole blocks of {block}'
        raise InputError(what, str(path), "The file is damaged or foreign.")
    size_bytes = elements // block * size if block else max(0, end - tensor.offset_bytes)
    return TensorFacts(name=tensor.name, parameters=elements, size_bytes=size_bytes, type_name=name)


def _check_names(path: Path, tensors: list[TensorFacts]) -> None:
    names = {tensor.name for tensor in tensors}
    if len(names) < len(tensors):
        raise InputError("names a tensor twice", str(path), "The file is damaged or its shards do not belong together.")


def _level(meta: dict[str, Any], tensors: list[TensorFacts]) -> tuple[str, list[str]]:
    """The level that the header names, else the type that most parameters have; a remark where the two differ."""
    by_type: dict[str, int] = {}
    for tensor in tensors:
        by_type[tensor.type_name] = by_type.get(tensor.type_name, 0) + tensor.parameters
    most = max(by_type, key=lambda kind: by_type[kind]).lower()
    label = meta.get("general.file_type")
    named = _level_names().get(label) if isinstance(label, int) else None
    if named is None:
        return most, []
    if not named.startswith(most):
        return named, [f"the header says {named}, most parameters are {most}"]
    return named, []


def _markers(path: Path, meta: dict[str, Any]) -> dict[str, str]:
    """Infill markers as the vocabulary writes them; empty unless all three are there."""
    words = meta.get("tokenizer.ggml.tokens")
    markers = {}
    for role, names in _MARKERS.items():
        numbers = [meta.get(f"tokenizer.ggml.{name}_token_id") for name in names]
        number = next((value for value in numbers if isinstance(value, int)), None)
        if number is None:
            continue
        if isinstance(words, LongArray):
            text = read_item(path, words, number)
        else:
            text = str(words[number]) if isinstance(words, list) and 0 <= number < len(words) else None
        if text:
            markers[role] = text
    return markers if len(markers) == len(_MARKERS) else {}


def _length(value: object) -> int | None:
    if isinstance(value, LongArray):
        return value.length
    return len(value) if isinstance(value, list) else None


GGUF = WeightsFormat(
    name="gguf",
    title="GGUF",
    endings=(".gguf",),
    joins_shards=True,
    matches=lambda _path, magic: magic.startswith(b"GGUF"),
    read=read_gguf_facts,
)
