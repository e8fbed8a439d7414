"""The little model's weights, from a GGUF file of any level or the 16-bit safetensors it was trained into."""

from collections.abc import Mapping
from pathlib import Path
from typing import Any

import msgspec
import numpy as np
import numpy.typing as npt

from kettlefield.core.errors import InputError
from kettlefield.demo.little.blocks import BLOCK_TYPES, F16, BlockType, Bytes, Floats
from kettlefield.demo.little.tokens import Vocabulary
from kettlefield.weights.gguf_header import GgufHeader, Tensor, read_gguf


class Shape(msgspec.Struct, frozen=True, kw_only=True):
    """How large each part is."""

    vocabulary: int
    width: int
    layers: int
    heads: int
    kv_heads: int
    head_size: int
    feed_forward: int
    context_tokens: int
    rotary_base: float
    epsilon: float  # of the norms


ARCHITECTURE = "eelgrass"
_HINT = "Write it again with `kettlefield demo --real`, or tools/write_levels.py."
MOST_BYTES = 64 * 2**20  # far above any level of a model this small
_MARK = 3  # token type of special marks in the format


class Matrix:
    """A matrix in as many bytes as the file has; numbers only while they are needed."""

    def __init__(self, raw: Bytes, kind: BlockType, shape: tuple[int, int]) -> None:
        self._words = kind.side_by_side(raw, shape[0])
        self._kind = kind
        self.shape = shape
        self.size_bytes = self._words.nbytes

    def times(self, x: Floats) -> Floats:
        """Products of (vectors, columns) with every row: (vectors, rows)."""
        count, block = len(x), self._kind.elements
        # the numbers come first by place in a block, then by block: so must what they are multiplied with
        turned = x.reshape(count, -1, block).transpose(0, 2, 1).reshape(count, -1)
        product: Floats = turned @ self._kind.unpack(self._words).reshape(-1, self.shape[0])
        return product

    def rows(self, which: npt.NDArray[np.intp]) -> Floats:
        """Some rows, in the order asked for."""
        words = self._words.reshape(len(self._words), -1, self.shape[0])[:, :, which]
        numbers = self._kind.unpack(np.ascontiguousarray(words).reshape(len(words), -1))
        return numbers.reshape(self._kind.elements, -1, len(which)).transpose(2, 1, 0).reshape(len(which), -1)

    def numbers(self) -> Floats:
        """All rows."""
        return self.rows(np.arange(self.shape[0]))


class Weights(msgspec.Struct, frozen=True, kw_only=True):
    """A model that can be served."""

    name: str
    level: str
    shape: Shape
    vocabulary: Vocabulary
    matrices: Mapping[str, Matrix]
    norms: Mapping[str, Floats]

    @property
    def size_bytes(self) -> int:
        """What the numbers take, packed as they are."""
        return sum(m.size_bytes for m in self.matrices.values()) + sum(n.nbytes for n in self.norms.values())


def tensor_shapes(shape: Shape) -> dict[str, tuple[int, ...]]:
    """Every tensor of the model with its rows and columns."""
    width, kv_width = shape.width, shape.kv_heads * shape.head_size
    shapes: dict[str, tuple[int, ...]] = {
        "token_embd.weight": (shape.vocabulary, width),
        "output_norm.weight": (width,),
    }
    for layer in range(shape.layers):
        of_layer: dict[str, tuple[int, ...]] = {
            "attn_norm": (width,),
            "attn_q": (shape.heads * shape.head_size, width),
            "attn_k": (kv_width, width),
            "attn_v": (kv_width, width),
            "attn_output": (width, shape.heads * shape.head_size),
            "ffn_norm": (width,),
            "ffn_gate": (shape.feed_forward, width),
            "ffn_up": (shape.feed_forward, width),
            "ffn_down": (width, shape.feed_forward),
        }
        shapes |= {f"blk.{layer}.{name}.weight": size for name, size in of_layer.items()}
    return shapes


def load_weights(path: Path) -> Weights:
    """Read a level that ``files.write_level`` wrote.

    Raises
    ------
    InputError
        The file is not a GGUF, damaged, of another architecture, or its tensors are not the model's.
    """
    header = read_gguf(path)
    architecture = header.metadata.get("general.architecture")
    if architecture != ARCHITECTURE:
        raise _refuse(
            path, f"holds a model of architecture {str(architecture)[:40]!r}, this server runs {ARCHITECTURE!r}"
        )
    if header.file_bytes > MOST_BYTES:
        raise _refuse(path, f"is {header.file_bytes} bytes long, no little model is")
    keys = _Keys(path, header)
    vocabulary = keys.vocabulary()
    shape = keys.shape(len(vocabulary.pieces))
    wanted, tensors = tensor_shapes(shape), {tensor.name: tensor for tensor in header.tensors}
    if wanted.keys() != tensors.keys():
        odd = sorted(wanted.keys() ^ tensors.keys())
        raise _refuse(path, f"has tensors too many or too few: {', '.join(name[:40] for name in odd[:3])}")
    data = np.fromfile(path, np.uint8)
    matrices: dict[str, Matrix] = {}
    norms: dict[str, Floats] = {}
    for name, size in wanted.items():
        raw, kind = _raw(path, data, header, tensors[name], size)
        if len(size) == 1:
            norms[name] = _numbers(raw, kind, (1, *size))[0]
        else:
            matrices[name] = Matrix(raw, kind, (size[0], size[1]))
    if not all(np.isfinite(norm).all() for norm in norms.values()):
        raise _refuse(path, "holds numbers that are not finite")
    level = str(header.metadata.get(f"{ARCHITECTURE}.level", "unknown"))
    name = str(header.metadata.get("general.basename", ARCHITECTURE))
    return Weights(name=name, level=level, shape=shape, vocabulary=vocabulary, matrices=matrices, norms=norms)


def _raw(path: Path, data: Bytes, header: GgufHeader, tensor: Tensor, size: tuple[int, ...]) -> tuple[Bytes, BlockType]:
    if tuple(reversed(tensor.shape)) != size:  # the format writes columns first
        raise _refuse(path, f"tensor {tensor.name}: its shape is {tensor.shape}, wanted {tuple(reversed(size))}")
    kind = BLOCK_TYPES.get(tensor.type_id)
    if kind is None or size[-1] % kind.elements or (len(size) == 1 and kind.elements != 1):
        raise _refuse(path, f"tensor {tensor.name}: type {tensor.type_id} is none that this server knows")
    start = header.data_offset_bytes + tensor.offset_bytes
    end = start + tensor.elements // kind.elements * kind.size_bytes
    if end > len(data):
        raise _refuse(path, f"tensor {tensor.name}: ends {end - len(data)} bytes beyond the file")
    return data[start:end].copy(), kind  # a copy, so that the file's bytes are not held twice


class _Keys:
    """The header's keys, read with suspicion."""

    def __init__(self, path: Path, header: GgufHeader) -> None:
        self._path, self._meta = path, header.metadata

    def number(self, name: str, most: int) -> int:
        value = self._meta.get(f"{ARCHITECTURE}.{name}")
        if isinstance(value, bool) or not isinstance(value, int) or not 1 <= value <= most:
            raise _refuse(self._path, f"says {name} is {str(value)[:40]}, wanted 1 to {most}")
        return value

    def real(self, name: str) -> float:
        value = self._meta.get(f"{ARCHITECTURE}.{name}")
        if not isinstance(value, float) or not 0 < value < 1e9:
            raise _refuse(self._path, f"says {name} is {str(value)[:40]}, wanted a number above 0")
        return value

    def shape(self, vocabulary: int) -> Shape:
        shape = Shape(
            vocabulary=vocabulary,
            width=self.number("embedding_length", 4096),
            layers=self.number("block_count", 64),
            heads=self.number("attention.head_count", 256),
            kv_heads=self.number("attention.head_count_kv", 256),
            head_size=self.number("attention.key_length", 512),
            feed_forward=self.number("feed_forward_length", 16384),
            context_tokens=self.number("context_length", 1 << 20),
            rotary_base=self.real("rope.freq_base"),
            epsilon=self.real("attention.layer_norm_rms_epsilon"),
        )
        if shape.heads % shape.kv_heads or shape.head_size % 2:
            raise _refuse(self._path, f"has {shape.heads} heads for {shape.kv_heads} of keys and values")
        return shape

    def vocabulary(self) -> Vocabulary:
        pieces: Any = self._meta.get("tokenizer.ggml.tokens")
        kinds: Any = self._meta.get("tokenizer.ggml.token_type")
        pairs: Any = self._meta.get(f"{ARCHITECTURE}.tokenizer.pairs")
        try:
            specials = tuple(piece for piece, kind in zip(pieces, kinds, strict=True) if kind == _MARK)
            merges = tuple((pieces[a], pieces[b]) for a, b in zip(pairs[::2], pairs[1::2], strict=True))
            vocabulary = Vocabulary(specials=specials, merges=merges)
            if list(vocabulary.pieces) != pieces or len(set(pieces)) != len(pieces):
                raise ValueError("its tokens are not what its merges make")
        except (TypeError, ValueError, IndexError) as err:
            raise _refuse(self._path, f"holds no vocabulary of this model ({err})") from err
        return vocabulary


def read_trained(path: Path) -> dict[str, Floats]:
    """The tensors of the safetensors file that training wrote, as 32-bit floats by name.

    Raises
    ------
    InputError
        The file is damaged or holds anything but 16-bit numbers.
    """
    from kettlefield.weights.safetensors_header import read_header  # noqa: PLC0415 - serving needs no such file

    _, tensors = read_header(path)
    data = np.fromfile(path, np.uint8)
    start = 8 + int.from_bytes(data[:8].tobytes(), "little")
    by_name = {}
    for tensor in tensors:
        if tensor.type_name != "F16":
            raise _refuse(path, f"tensor {tensor.name} is {tensor.type_name}, wanted F16")
        raw = data[start + tensor.offset_bytes :][: tensor.size_bytes]
        by_name[tensor.name] = _numbers(raw, F16, (1, tensor.elements)).reshape(tensor.shape)
    return by_name


def _numbers(raw: Bytes, kind: BlockType, shape: tuple[int, int]) -> Floats:
    return Matrix(raw, kind, shape).numbers()


def _refuse(path: Path, what: str) -> InputError:
    return InputError(what, str(path), _HINT)
