"""Weights in blocks: how each level's bits lie in a GGUF file, and how they become numbers again.

The layouts are those of the public format. Nothing is kept unpacked: a matrix is held in as many bytes as the file
has and turned into 32-bit floats for the moment in which it is multiplied.

Blocks stand side by side here: the first axis runs through a block's bytes (or its numbers), the second from block
to block. NumPy is fast along the last axis of an array, and a block is short where a matrix has thousands of them.
"""

from collections.abc import Callable
from typing import Any

import msgspec
import numpy as np
import numpy.typing as npt

Bytes = npt.NDArray[np.uint8]
Floats = npt.NDArray[np.float32]
Codes = npt.NDArray[np.integer[Any]]
Words = npt.NDArray[Any]  # uint8, or wider where a number is whole words


class BlockType(msgspec.Struct, frozen=True, kw_only=True):
    """One way to hold numbers."""

    name: str  # as the format calls it
    number: int  # in a file's header
    elements: int  # a block
    size_bytes: int  # of a block
    unpack: Callable[[Words], Floats]  # a block's words x blocks to its elements x blocks
    word: npt.DTypeLike = np.uint8  # what it is made of

    def side_by_side(self, raw: Bytes, rows: int) -> Words:
        """A matrix's bytes, row by row as the file has them, as a block's words x (blocks of a row x rows)."""
        words = (
            np.ascontiguousarray(raw).view(self.word).reshape(rows, -1, self.size_bytes // np.dtype(self.word).itemsize)
        )
        return np.ascontiguousarray(words.transpose(2, 1, 0)).reshape(words.shape[2], -1)

    @property
    def bits_per_weight(self) -> float:
        """Scales and minima counted."""
        return 8 * self.size_bytes / self.elements


def _halves(raw: Bytes) -> Floats:
    """16-bit floats as 32-bit ones, a row for every two rows of bytes."""
    pairs = raw[0::2].astype(np.uint16)
    pairs |= raw[1::2].astype(np.uint16) << np.uint16(8)
    return pairs.view(np.float16).astype(np.float32)


def _unpack_f32(raw: Words) -> Floats:
    return np.asarray(raw, np.float32)


def _unpack_f16(raw: Words) -> Floats:
    """16-bit floats; by whole-number arithmetic, three times as fast here as the conversion that NumPy has.

    A sign is spread over what the shift then clears, and a product lifts the exponent by 127 - 15. Infinities
    would become large numbers; a trained model has none.
    """
    bits = raw.astype(np.int32)
    bits <<= 13
    bits &= ~0x70000000
    out = bits.view(np.float32)
    out *= np.float32(2.0**112)
    return out


def _unpack_q8_0(raw: Words) -> Floats:
    """A scale, then 32 signed bytes."""
    out = raw[2:].view(np.int8).astype(np.float32)
    out *= _halves(raw[:2])
    return out


def _unpack_q5_1(raw: Words) -> Floats:
    """A scale and a minimum, 32 high bits, then 16 bytes of which each holds two low halves."""
    high = _parted(raw[4:8], 8).reshape(8, 4, -1).transpose(1, 0, 2).reshape(32, -1)
    return _scaled_from_minimum(raw, _with_high_bits(_parted(raw[8:], 2), high, 4))


def _unpack_q4_1(raw: Words) -> Floats:
    """A scale and a minimum, then 16 bytes of which each holds two numbers."""
    return _scaled_from_minimum(raw, _parted(raw[4:], 2))


def _scaled_from_minimum(raw: Bytes, codes: Codes) -> Floats:
    scale, lowest = _halves(raw[:4])
    out = codes.astype(np.float32)
    out *= scale
    out += lowest
    return out


def _wide(raw: Bytes) -> npt.NDArray[np.unsignedinteger[Any]]:
    """Eight bytes at a time where rows allow it: shifts and masks are then done in an eighth of the steps."""
    return raw.view(np.uint64) if raw.shape[1] % 8 == 0 else raw


def _parted(packed: Bytes, parts: int, *, runs: int = 1) -> Bytes:
    """So many numbers out of each byte, lowest bits first; of each run of bytes all first ones, all second ones, ..."""
    bits, blocks = 8 // parts, packed.shape[1]
    out = np.empty((parts * len(packed), blocks), np.uint8)
    source, target = _wide(packed), _wide(out)
    source = source.reshape(runs, -1, source.shape[1])
    into = target.reshape(runs, parts, -1, target.shape[1])
    for part in range(parts):
        np.right_shift(source, part * bits, out=into[:, part])
    target &= target.dtype.type(int.from_bytes(bytes([(1 << bits) - 1]) * target.itemsize, "little"))
    return out


def _with_high_bits(codes: Bytes, high: Bytes, bits: int) -> Bytes:
    """Numbers of a few bits, and what stands above those."""
    wide = _wide(codes)
    wide |= _wide(high) << wide.dtype.type(bits)  # high bits are so few that none leaves its byte
    return codes


def _unpack_q6_k(raw: Words) -> Floats:
    """Of 256 numbers the low four bits, the high two bits, 16 signed scales and the scale of those."""
    codes = _with_high_bits(_parted(raw[:128], 2, runs=2), _parted(raw[128:192], 4, runs=2), 4)
    return _scaled_groups(codes, 32, raw[192:208].view(np.int8) * _halves(raw[208:]))


def _unpack_q3_k(raw: Words) -> Floats:
    """Of 256 numbers the high bits, the low two bits, 16 scales of six bits in twelve bytes and their scale."""
    codes = _with_high_bits(_parted(raw[32:96], 4, runs=2), _parted(raw[:32], 8), 2)
    scales = _with_high_bits(_parted(raw[96:104], 2), _parted(raw[104:108], 4), 4)
    return _scaled_groups(codes, 4, (scales.view(np.int8) - np.int8(32)) * _halves(raw[108:]))


def _unpack_q2_k(raw: Words) -> Floats:
    """16 scales and minima of four bits, 256 numbers of two bits, and the scale of each."""
    over, under = _halves(raw[80:84])
    out = _parted(raw[16:80], 4, runs=2).astype(np.float32)
    groups = out.reshape(16, 16, -1)
    groups *= ((raw[:16] & 15) * over)[:, None]
    groups -= ((raw[:16] >> 4) * under)[:, None]
    return out


def _scaled_groups(codes: Bytes, middle: int, scales: Floats) -> Floats:
    """256 numbers a block around ``middle``, in 16 groups, each with its scale."""
    codes -= np.uint8(middle)  # below 0 as a signed byte
    out = codes.view(np.int8).astype(np.float32)
    groups = out.reshape(16, 16, -1)
    groups *= scales[:, None]
    return out


F32 = BlockType(name="F32", number=0, elements=1, size_bytes=4, unpack=_unpack_f32, word=np.float32)
F16 = BlockType(name="F16", number=1, elements=1, size_bytes=2, unpack=_unpack_f16, word=np.int16)
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
