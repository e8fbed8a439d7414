"""Numbers into blocks: what writing a level needs and serving it does not.

Each group's scale is searched: of several round the one that the largest number suggests, the one whose
rounded numbers lie closest to the true ones in the mean of squares is kept.
"""

from collections.abc import Callable

import numpy as np
import numpy.typing as npt

from kettlefield.demo.little.blocks import Bytes, Codes, Floats

_TRIED = np.linspace(0.75, 1.15, 17, dtype=np.float32)  # times the scale that the extremes suggest


def pack(values: Floats, type_name: str) -> Bytes:
    """A matrix row by row as blocks.

    Parameters
    ----------
    values : (rows, columns) array
        Columns a multiple of the block's elements.
    type_name : str
        A block type of the format.

    Returns
    -------
    (rows, bytes) array of uint8

    Raises
    ------
    KeyError
        There is no such type here.
    ValueError
        The columns fill no whole blocks, or a value is not finite.
    """
    elements, packer = _PACKERS[type_name]
    if values.shape[1] % elements:
        raise ValueError(f"{values.shape[1]} columns: wanted a multiple of {elements} for {type_name}")
    if not np.isfinite(values).all():
        raise ValueError("a weight is not finite")
    blocks = packer(np.ascontiguousarray(values, np.float32).reshape(-1, elements))
    return blocks.reshape(values.shape[0], -1)


def _raw(values: npt.NDArray[np.float16 | np.float32]) -> Bytes:
    return np.ascontiguousarray(values).view(np.uint8)


def _half(values: Floats) -> npt.NDArray[np.float16]:
    return values.astype(np.float16)


def _codes(values: Floats, scale: Floats, low: int, high: int) -> npt.NDArray[np.int32]:
    """Numbers divided by their group's scale and rounded; a scale of nothing gives noughts."""
    with np.errstate(divide="ignore", invalid="ignore"):
        inverse = np.where(scale == 0, 0, 1 / scale)
    return np.clip(np.rint(values * inverse), low, high).astype(np.int32)


def _best_scale(values: Floats, low: int, high: int) -> Floats:
    """For groups x numbers, a scale each so that scale times whole numbers from low to high comes closest."""
    extreme = np.take_along_axis(values, np.abs(values).argmax(1)[:, None], 1)
    start: Floats = np.divide(
        extreme, low, dtype=np.float32
    )  # the side that reaches further takes the extreme, whatever its sign
    best = start
    least = np.full_like(start, np.inf)
    for factor in _TRIED:
        scale = start * factor
        error = ((scale * _codes(values, scale, low, high) - values) ** 2).sum(1, keepdims=True)
        best = np.where(error < least, scale, best).astype(np.float32)
        least = np.minimum(error, least)
    return best


def _best_range(values: Floats, high: int) -> tuple[Floats, Floats]:
    """For groups x numbers, scale and minimum (0 or below) for whole numbers from 0 to high."""
    bottom = np.minimum(values.min(1, keepdims=True), 0)
    span = (values.max(1, keepdims=True) - bottom) / high
    best, lowest, least = span, bottom, np.full_like(span, np.inf)
    for factor in _TRIED:
        for shift in (1.0, 0.85, 0.7):
            scale, floor = span * factor, bottom * shift
            error = ((scale * _codes(values - floor, scale, 0, high) + floor - values) ** 2).sum(1, keepdims=True)
            better = error < least
            best, lowest = np.where(better, scale, best), np.where(better, floor, lowest)
            least = np.minimum(error, least)
    return best, lowest


def _pack_f16(values: Floats) -> Bytes:
    return _raw(_half(values))


def _pack_q8_0(values: Floats) -> Bytes:
    scale = _half(np.abs(values).max(1, keepdims=True) / 127)
    codes = _codes(values, scale.astype(np.float32), -127, 127).astype(np.int8)
    return np.concatenate((_raw(scale), codes.view(np.uint8)), axis=1)


def _pack_q4_1(values: Floats) -> Bytes:
    ends, codes = _from_minimum(values, 15)
    return np.concatenate((ends, _paired(codes[:, :16], codes[:, 16:])), axis=1)


def _pack_q5_1(values: Floats) -> Bytes:
    ends, codes = _from_minimum(values, 31)
    high = np.packbits(codes >> 4, axis=1, bitorder="little")
    return np.concatenate((ends, high, _paired(codes[:, :16], codes[:, 16:])), axis=1)


def _from_minimum(values: Floats, high: int) -> tuple[Bytes, Bytes]:
    lowest = _half(values.min(1, keepdims=True))
    scale = _half((values.max(1, keepdims=True) - lowest) / high)
    codes = _codes(values - lowest.astype(np.float32), scale.astype(np.float32), 0, high)
    return np.concatenate((_raw(scale), _raw(lowest)), axis=1), codes.astype(np.uint8)


def _grouped(values: Floats, low: int, high: int, scale_low: int) -> tuple[npt.NDArray[np.float16], Bytes, Bytes]:
    """The scale of the scales, 16 signed scales, and 256 numbers above ``low``, of each block."""
    groups = values.reshape(-1, 16)
    wanted = _best_scale(groups, low, high).reshape(-1, 16)
    over = _half(_best_scale(wanted, scale_low, -scale_low - 1))
    scales = _codes(wanted, over.astype(np.float32), scale_low, -scale_low - 1)
    true = (over.astype(np.float32) * scales).reshape(-1, 1)
    codes = _codes(groups, true, low, high).reshape(-1, 256) - low
    return over, scales.astype(np.int8).view(np.uint8), codes.astype(np.uint8)


def _pack_q6_k(values: Floats) -> Bytes:
    over, scales, codes = _grouped(values, -32, 31, -128)
    quarters = codes.reshape(-1, 2, 4, 32)
    low = _paired(quarters[:, :, :2], quarters[:, :, 2:])
    return np.concatenate((low.reshape(-1, 128), _crumbs(codes >> 4), scales, _raw(over)), axis=1)


def _pack_q3_k(values: Floats) -> Bytes:
    over, scales, codes = _grouped(values, -4, 3, -32)
    high = (codes >> 2).reshape(-1, 8, 32) << np.arange(8, dtype=np.uint8).reshape(1, 8, 1)
    lifted = (scales.view(np.int8) + np.int8(32)).view(np.uint8)
    fine = _paired(lifted[:, :8], lifted[:, 8:])
    coarse = (lifted >> 4).reshape(-1, 4, 4)
    folded = _ored(coarse << np.array([0, 2, 4, 6], np.uint8).reshape(1, 4, 1))
    return np.concatenate((_ored(high), _crumbs(codes & 3), fine, folded, _raw(over)), axis=1)


def _pack_q2_k(values: Floats) -> Bytes:
    groups = values.reshape(-1, 16)
    wanted, lowest = (part.reshape(-1, 16) for part in _best_range(groups, 3))
    over, under = (_half(part.max(1, keepdims=True) / 15) for part in (wanted, -lowest))
    scales = _codes(wanted, over.astype(np.float32), 0, 15)
    floors = _codes(-lowest, under.astype(np.float32), 0, 15)
    true = (over.astype(np.float32) * scales).reshape(-1, 1)
    floor = (under.astype(np.float32) * floors).reshape(-1, 1)
    codes = _codes(groups + floor, true, 0, 3).reshape(-1, 256).astype(np.uint8)
    ends = _paired(scales.astype(np.uint8), floors.astype(np.uint8))
    return np.concatenate((ends, _crumbs(codes), _raw(over), _raw(under)), axis=1)


def _paired(low: Bytes, high: Bytes) -> Bytes:
    """Two numbers of four bits in each byte; what is above their four bits is left out."""
    packed: Bytes = low & np.uint8(15) | high << np.uint8(4)
    return packed


def _crumbs(codes: Codes) -> Bytes:
    """256 numbers of two bits in 64 bytes: of each half of the block, four numbers 32 apart in a byte."""
    shifts = np.array([0, 2, 4, 6], np.uint8).reshape(1, 1, 4, 1)
    return _ored((codes & 3).reshape(-1, 2, 4, 32) << shifts, axis=2).reshape(-1, 64)


def _ored(parts: Codes, axis: int = 1) -> Bytes:
    joined: Bytes = np.bitwise_or.reduce(parts, axis=axis)
    return joined


_PACKERS: dict[str, tuple[int, Callable[[Floats], Bytes]]] = {
    "F16": (1, _pack_f16),
    "Q8_0": (32, _pack_q8_0),
    "Q6_K": (256, _pack_q6_k),
    "Q5_1": (32, _pack_q5_1),
    "Q4_1": (32, _pack_q4_1),
    "Q3_K": (256, _pack_q3_k),
    "Q2_K": (256, _pack_q2_k),
}
