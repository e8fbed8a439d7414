"""Keys and values of what was read so far, at 16 or 8 bits an element; at 32 for checks of the arithmetic."""

from typing import Literal, Protocol

import numpy as np

from kettlefield.standin.little.blocks import Floats
from kettlefield.standin.little.shape import Shape

CacheBits = Literal[32, 16, 8]


class Cache:
    """One slot's memory; what is behind ``length`` is forgotten."""

    def __init__(self, shape: Shape, context_tokens: int, bits: CacheBits) -> None:
        size = (shape.layers, shape.kv_heads, context_tokens, shape.head_size)
        self._keys, self._values = _store(size, bits), _store(size, bits)
        self.length = 0  # tokens whose keys and values are there

    @property
    def size_bytes(self) -> int:
        """What it takes, filled or not."""
        return self._keys.size_bytes + self._values.size_bytes

    def extend(self, layer: int, keys: Floats, values: Floats) -> tuple[Floats, Floats]:
        """Write new tokens behind ``length``, and read all up to and with them.

        Parameters
        ----------
        layer : int
            From 0.
        keys, values : (kv heads, tokens, head size) array
            Of the new tokens. ``length`` is moved on by whoever has done all layers.
        """
        end = self.length + keys.shape[1]
        self._keys.write(layer, self.length, keys)
        self._values.write(layer, self.length, values)
        return self._keys.read(layer, end), self._values.read(layer, end)


class _Store(Protocol):
    size_bytes: int

    def write(self, layer: int, start: int, numbers: Floats) -> None: ...

    def read(self, layer: int, end: int) -> Floats: ...


def _store(size: tuple[int, int, int, int], bits: CacheBits) -> _Store:
    return _Bytes(size) if bits == 8 else _Floats(size, bits)


class _Floats:
    """16-bit floats, or 32-bit ones."""

    def __init__(self, size: tuple[int, int, int, int], bits: Literal[32, 16]) -> None:
        self._held = np.ones(size, np.float16 if bits == 16 else np.float32)  # written: the memory is taken now
        self.size_bytes = self._held.nbytes

    def write(self, layer: int, start: int, numbers: Floats) -> None:
        self._held[layer, :, start : start + numbers.shape[1]] = numbers

    def read(self, layer: int, end: int) -> Floats:
        return self._held[layer, :, :end].astype(np.float32)


class _Bytes:
    """Signed bytes with a 16-bit scale for each token of a head."""

    def __init__(self, size: tuple[int, int, int, int]) -> None:
        self._codes = np.ones(size, np.int8)
        self._scales = np.ones((*size[:3], 1), np.float16)
        self.size_bytes = self._codes.nbytes + self._scales.nbytes

    def write(self, layer: int, start: int, numbers: Floats) -> None:
        end = start + numbers.shape[1]
        scale = (np.abs(numbers).max(-1, keepdims=True) / 127).astype(np.float16)
        safe = np.where(scale == 0, 1, scale.astype(np.float32))
        self._codes[layer, :, start:end] = np.clip(np.rint(numbers / safe), -127, 127)
        self._scales[layer, :, start:end] = scale

    def read(self, layer: int, end: int) -> Floats:
        return np.multiply(self._codes[layer, :, :end], self._scales[layer, :, :end], dtype=np.float32)
