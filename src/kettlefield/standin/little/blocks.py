"""Weights in blocks: how each level's bits lie in a GGUF file, and how they become numbers again.

The layouts are those of the public format. Nothing is kept unpacked: a matrix is held as the file's bytes and
turned into 32-bit floats for the moment in which it is multiplied.
"""

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt

Bytes = npt.NDArray[np.uint8]
Floats = npt.NDArray[np.float32]
Codes = npt.NDArray[np.integer[Any]]
_PAIRS = np.array([0, 4], np.uint8).reshape(1, 1, 2, 1)
_FOURS = np.array([0, 2, 4, 6], np.uint8).reshape(1, 1, 4, 1)
_EIGHTS = np.arange(8, dtype=np.uint8).reshape(1, 1, 8, 1)


@dataclass(frozen=True, slots=True, kw_only=True)
class BlockType:
    """One way to hold numbers."""

    name: str  # as the format calls it
    number: int  # in a file's header
    elements: int  # a block
    size_bytes: int  # of a block
    unpack: Callable[[Bytes], Floats]  # blocks x size_bytes to blocks x elements

    @property
    def bits_per_weight(self) -> float:
        """Scales and minima counted."""
        return 8 * self.size_bytes / self.elements


def _halves(raw: Bytes) -> Floats:
    """16-bit floats as 32-bit ones, one column for every two bytes."""
    return np.ascontiguousarray(raw).view(np.float16).astype(np.float32)


def _unpack_f32(raw: Bytes) -> Floats:
    return np.ascontiguousarray(raw).view(np.float32)


def _unpack_f16(raw: Bytes) -> Floats:
    """16-bit floats; by whole-number arithmetic, three times as fast here as the conversion that NumPy has.

    A sign is spread over what the shift then clears, and a product lifts the exponent by 127 - 15. Infinities
    would become large numbers; a trained model has none.
    """
    bits = np.ascontiguousarray(raw).view(np.int16).astype(np.int32)
    bits <<= 13
    bits &= ~0x70000000
    out = bits.view(np.float32)
    out *= np.float32(2.0**112)
    return out


def _unpack_q8_0(raw: Bytes) -> Floats:
    """A scale, then 32 signed bytes."""
    out = raw[:, 2:].view(np.int8).astype(np.float32)
    out *= _halves(raw[:, :2])
    return out


def _unpack_q5_1(raw: Bytes) -> Floats:
    """A scale and a minimum, 32 high bits, then 16 bytes of which each holds two low halves."""
    low = ((raw[:, 8:].reshape(-1, 1, 1, 16) >> _PAIRS) & 15).reshape(-1, 32)
    low |= np.unpackbits(raw[:, 4:8], axis=1, bitorder="little") << 4
    return _scaled_from_minimum(raw, low)


def _unpack_q4_1(raw: Bytes) -> Floats:
    """A scale and a minimum, then 16 bytes of which each holds two numbers."""
    return _scaled_from_minimum(raw, ((raw[:, 4:].reshape(-1, 1, 1, 16) >> _PAIRS) & 15).reshape(-1, 32))


def _scaled_from_minimum(raw: Bytes, codes: Codes) -> Floats:
    ends = _halves(raw[:, :4])
    out = codes.astype(np.float32)
    out *= ends[:, :1]
    out += ends[:, 1:]
    return out


def _unpack_q6_k(raw: Bytes) -> Floats:
    """Of 256 numbers the low four bits, the high two bits, 16 signed scales and the scale of those."""
    low = ((raw[:, :128].reshape(-1, 2, 1, 64) >> _PAIRS) & 15).reshape(-1, 256)
    low |= (((raw[:, 128:192].reshape(-1, 2, 1, 32) >> _FOURS) & 3) << 4).reshape(-1, 256)
    scales = raw[:, 192:208].view(np.int8) * _halves(raw[:, 208:])
    return _scaled_groups(low.view(np.int8) - np.int8(32), scales)


def _unpack_q3_k(raw: Bytes) -> Floats:
    """Of 256 numbers the high bits, the low two bits, 16 scales of six bits in twelve bytes and their scale."""
    low = ((raw[:, 32:96].reshape(-1, 2, 1, 32) >> _FOURS) & 3).reshape(-1, 256)
    low |= (((raw[:, :32].reshape(-1, 1, 1, 32) >> _EIGHTS) & 1) << 2).reshape(-1, 256)
    packed = raw[:, 96:108]
    fine = np.concatenate((packed[:, :8] & 15, packed[:, :8] >> 4), axis=1)
    coarse = ((packed[:, 8:].reshape(-1, 1, 4) >> _FOURS[0]) & 3).reshape(-1, 16)
    scales = ((fine | (coarse << 4)).view(np.int8) - np.int8(32)) * _halves(raw[:, 108:])
    return _scaled_groups(low.view(np.int8) - np.int8(4), scales)


def _unpack_q2_k(raw: Bytes) -> Floats:
    """16 scales and minima of four bits, 256 numbers of two bits, and the scale of each."""
    codes = ((raw[:, 16:80].reshape(-1, 2, 1, 32) >> _FOURS) & 3).reshape(-1, 16, 16).astype(np.float32)
    ends = _halves(raw[:, 80:84])
    codes *= ((raw[:, :16] & 15) * ends[:, :1])[:, :, None]
    codes -= ((raw[:, :16] >> 4) * ends[:, 1:])[:, :, None]
    return codes.reshape(-1, 256)


def _scaled_groups(codes: npt.NDArray[np.int8], scales: Floats) -> Floats:
    """256 signed numbers a block in 16 groups, each with its scale."""
    out = codes.reshape(-1, 16, 16).astype(np.float32)
    out *= scales[:, :, None]
    return out.reshape(-1, 256)


F32 = BlockType(name="F32", number=0, elements=1, size_bytes=4, unpack=_unpack_f32)
F16 = BlockType(name="F16", number=1, elements=1, size_bytes=2, unpack=_unpack_f16)
BLOCK_TYPES = {
    kind.number: kind
    for kind in (
        F32,
        F16,
        BlockType(name="Q8_0", number=8, elements=32, size_bytes=34, unpack=_unpack_q8_0),
        BlockType(name="Q6_K", number=14, elements=256, size_bytes=210, unpack=_unpack_q6_k),
        BlockType(name="Q5_1", number=7, elements=32, size_bytes=24, unpack=_unpack_q5_1),
        BlockType(name="Q4_1", number=3, elements=32, size_bytes=20, unpack=_unpack_q4_1),
        BlockType(name="Q3_K", number=11, elements=256, size_bytes=110, unpack=_unpack_q3_k),
        BlockType(name="Q2_K", number=10, elements=256, size_bytes=84, unpack=_unpack_q2_k),
    )
}
# what each level holds its matrices in; norms stay 32-bit
LEVELS = {
    "f16": "F16",
    "q8_0": "Q8_0",
    "q6_k": "Q6_K",
    "q5_1": "Q5_1",
    "q4_1": "Q4_1",
    "q3_k_s": "Q3_K",
    "q2_k": "Q2_K",
}


def type_named(name: str) -> BlockType:
    """A block type by its name in the format.

    Raises
    ------
    KeyError
        There is none of that name here.
    """
    return {kind.name: kind for kind in BLOCK_TYPES.values()}[name]
