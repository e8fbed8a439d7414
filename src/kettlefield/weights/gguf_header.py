"""GGUF headers, read with nothing taken on trust: lengths are checked against the file before they are used.

Only the header is touched, through a memory map, so a file of any size costs milliseconds and a few
megabytes. Format: the public GGUF specification, versions 2 and 3.
"""

import mmap
import struct
from pathlib import Path
from typing import Any

import msgspec

from kettlefield.core.errors import InputError
from kettlefield.core.plaintext import shorten, visible

MAGIC = b"GGUF"
MAX_KEYS = 1 << 16
MAX_TENSORS = 1 << 20
MAX_STRING_BYTES = 1 << 24  # far above any chat template
MAX_NAME_BYTES = 1 << 10
MAX_KEPT_ITEMS = 4096  # longer arrays (a vocabulary) are measured, not kept
MAX_ARRAY_DEPTH = 3
_SCALARS = {0: "B", 1: "b", 2: "H", 3: "h", 4: "I", 5: "i", 6: "f", 7: "?", 10: "Q", 11: "q", 12: "d"}
_STRING, _ARRAY = 8, 9


class LongArray(msgspec.Struct, frozen=True):
    """An array that was measured and skipped."""

    length: int
    offset_bytes: int  # of its first item in the file


class Tensor(msgspec.Struct, frozen=True, kw_only=True):
    """One tensor as the header describes it."""

    name: str
    shape: tuple[int, ...]
    type_id: int
    offset_bytes: int  # from the start of the data

    @property
    def elements(self) -> int:
        """Number of elements."""
        count = 1
        for size in self.shape:
            count *= size
        return count


class GgufHeader(msgspec.Struct, frozen=True, kw_only=True):
    """What a GGUF file says of itself."""

    version: int
    metadata: dict[str, Any]
    tensors: tuple[Tensor, ...]
    data_offset_bytes: int
    file_bytes: int


def read_gguf(path: Path) -> GgufHeader:
    """Read a GGUF file's header.

    Raises
    ------
    InputError
        The file is not a GGUF, truncated, of an unknown version or byte order, or its header contradicts
        itself or the file's size.
    """
    try:
        with path.open("rb") as file:
            size = file.seek(0, 2)
            if size < 24:
                raise _refuse(path, f"is {size} bytes long, too short for a GGUF header")
            with mmap.mmap(file.fileno(), 0, access=mmap.ACCESS_READ) as view:
                return _Reader(path, view, size).header()
    except OSError as err:
        raise InputError(f"cannot be read ({err.strerror})", str(path), "Check the path and its permissions.") from err


def read_item(path: Path, words: LongArray, index: int) -> str | None:
    """One text of a skipped array of texts, such as a token of the vocabulary; None when it has no such item."""
    if not 0 <= index < words.length:
        return None
    with path.open("rb") as file, mmap.mmap(file.fileno(), 0, access=mmap.ACCESS_READ) as view:
        reader = _Reader(path, view, len(view))
        reader.at = words.offset_bytes
        reader.skip_strings(index)
        return reader.string(MAX_NAME_BYTES)


def _refuse(path: Path, what: str) -> InputError:
    return InputError(what, str(path), "The file is damaged or foreign; fetch it again and compare its digest.")


class _Reader:
    """A cursor over the header that checks before each step."""

    def __init__(self, path: Path, view: mmap.mmap, size: int) -> None:
        self.path, self.view, self.size, self.at = path, view, size, 0

    def header(self) -> GgufHeader:
        if self.take(4) != MAGIC:
            raise _refuse(self.path, "does not start as a GGUF file")
        version = self.number("I")
        if version >= 1 << 16:
            raise InputError("is a big-endian GGUF file", str(self.path), "Convert it to little-endian first.")
        if version not in {2, 3}:
            raise InputError(f"has GGUF version {version}", str(self.path), "Versions 2 and 3 are read; convert it.")
        n_tensors, n_keys = self.number("Q"), self.number("Q")
        # the least that one entry takes in the file bounds how many there can be
        self.check_count("tensors", n_tensors, MAX_TENSORS, 24)
        self.check_count("metadata keys", n_keys, MAX_KEYS, 13)
        metadata: dict[str, Any] = {}
        for _ in range(n_keys):
            key = self.string(MAX_NAME_BYTES)
            if key in metadata:
                raise _refuse(self.path, f'holds the key "{shorten(visible(key, keep_lines=False), 60)}" twice')
            metadata[key] = self.value(self.number("I"), 0)
        tensors = tuple(self.tensor() for _ in range(n_tensors))
        alignment = metadata.get("general.alignment", 32)
        if not isinstance(alignment, int) or not 8 <= alignment <= 1 << 20 or alignment & (alignment - 1):
            raise _refuse(self.path, f"has an alignment of {alignment!r}")
        return GgufHeader(
            version=version,
            metadata=metadata,
            tensors=tensors,
            data_offset_bytes=-(-self.at // alignment) * alignment,
            file_bytes=self.size,
        )

    def check_count(self, what: str, count: int, most: int, least_bytes: int) -> None:
        if count > most or count * least_bytes > self.size - self.at:
            raise _refuse(self.path, f"claims {count:,} {what} in {self.size:,} bytes")

    def take(self, count: int) -> bytes:
        if count > self.size - self.at:
            raise _refuse(self.path, f"ends inside its header, at byte {self.size:,}")
        self.at += count
        return self.view[self.at - count : self.at]

    def number(self, code: str) -> Any:
        return struct.unpack("<" + code, self.take(struct.calcsize("<" + code)))[0]

    def string(self, most: int) -> str:
        length = self.number("Q")
        if length > most:
            raise _refuse(self.path, f"claims a string of {length:,} bytes in its header")
        return self.take(length).decode("utf-8", errors="replace")

    def value(self, kind: int, depth: int) -> Any:
        if kind in _SCALARS:
            return self.number(_SCALARS[kind])
        if kind == _STRING:
            return self.string(MAX_STRING_BYTES)
        if kind == _ARRAY and depth < MAX_ARRAY_DEPTH:
            return self.array(depth)
        raise _refuse(self.path, f"holds a value of unknown type {kind} at byte {self.at:,}")

    def array(self, depth: int) -> Any:
        kind, length = self.number("I"), self.number("Q")
        if kind in _SCALARS:
            size = struct.calcsize("<" + _SCALARS[kind])
            if length * size > self.size - self.at:
                raise _refuse(self.path, f"claims an array of {length:,} values in its header")
            if length <= MAX_KEPT_ITEMS:
                return list(struct.unpack(f"<{length}{_SCALARS[kind]}", self.take(length * size)))
            start = self.at
            self.at += length * size
            return LongArray(length, start)
        if length * 8 > self.size - self.at:
            raise _refuse(self.path, f"claims an array of {length:,} values in its header")
        if kind == _STRING and length > MAX_KEPT_ITEMS:
            start = self.at
            self.skip_strings(length)
            return LongArray(length, start)
        return [self.value(kind, depth + 1) for _ in range(length)]

    def skip_strings(self, length: int) -> None:
        unpack = struct.Struct("<Q").unpack_from
        at, last = self.at, self.size - 8
        for _ in range(length):
            if at > last:
                raise _refuse(self.path, f"ends inside its header, at byte {self.size:,}")
            at += 8 + unpack(self.view, at)[0]
        if at > self.size:
            raise _refuse(self.path, f"ends inside its header, at byte {self.size:,}")
        self.at = at

    def tensor(self) -> Tensor:
        name = self.string(MAX_NAME_BYTES)
        dimensions = self.number("I")
        if not 0 < dimensions <= 8:
            raise _refuse(self.path, f'gives the tensor "{visible(name, keep_lines=False)}" {dimensions} dimensions')
        shape = struct.unpack(f"<{dimensions}Q", self.take(8 * dimensions))
        return Tensor(name=name, shape=shape, type_id=self.number("I"), offset_bytes=self.number("Q"))
