"""Series and texts as one compressed column: a record never holds a row a token."""

import json
import zlib
from typing import Any

import numpy as np

_MICROSECONDS = 1e6


def pack_text(text: str) -> bytes:
    """Text as zlib over UTF-8; lone surrogates survive."""
    return zlib.compress(text.encode("utf-8", errors="surrogatepass"), 6)


def unpack_text(blob: bytes) -> str:
    """The inverse of ``pack_text``."""
    return zlib.decompress(blob).decode("utf-8", errors="surrogatepass")


def pack_json(data: Any) -> bytes:
    """Plain data as zlib over JSON."""
    return pack_text(json.dumps(data))


def unpack_json(blob: bytes) -> Any:
    """The inverse of ``pack_json``."""
    return json.loads(unpack_text(blob))


def pack_stamps(stamps_s: tuple[float, ...], thinking: tuple[bool, ...]) -> bytes:
    """Arrival stamps, to the microsecond, with a thinking mark each.

    Differences of whole microseconds compress several times better than floats; a microsecond is far
    below what a network stack resolves.
    """
    micros = np.round(np.asarray(stamps_s, dtype=float) * _MICROSECONDS).astype("<i8")
    body: bytes = (
        np.diff(micros, prepend=0).astype("<i8").tobytes() + np.packbits(np.asarray(thinking, dtype=bool)).tobytes()
    )
    return len(stamps_s).to_bytes(4, "little") + zlib.compress(body, 6)


def unpack_stamps(blob: bytes) -> tuple[np.ndarray, np.ndarray]:
    """The inverse of ``pack_stamps``: seconds, shape (n,), and thinking marks, shape (n,)."""
    count = int.from_bytes(blob[:4], "little")
    body = zlib.decompress(blob[4:])
    micros = np.cumsum(np.frombuffer(body[: 8 * count], dtype="<i8"))
    marks = np.unpackbits(np.frombuffer(body[8 * count :], dtype=np.uint8), count=count).astype(bool)
    return micros / _MICROSECONDS, marks


def pack_series(columns: np.ndarray) -> bytes:
    """A table of 64-bit integers, shape (samples, columns), column by column."""
    rows, width = columns.shape
    body: bytes = columns.T.astype("<i8").tobytes()
    return b"".join((rows.to_bytes(4, "little"), width.to_bytes(1, "little"), zlib.compress(body, 6)))


def unpack_series(blob: bytes) -> np.ndarray:
    """The inverse of ``pack_series``."""
    rows, width = int.from_bytes(blob[:4], "little"), blob[4]
    return np.frombuffer(zlib.decompress(blob[5:]), dtype="<i8").reshape(width, rows).T
