"""safetensors headers, single or sharded with an index, read with nothing taken on trust.

Format: eight bytes of length (little-endian), a JSON object that gives each tensor its type, shape and place,
then the data. The header's JSON is parsed by the standard library within a bound on its length.
"""

import itertools
import json
import re
from pathlib import Path
from typing import Any

import msgspec

from kettlefield.core.errors import InputError
from kettlefield.core.plaintext import shorten, visible

MAX_HEADER_BYTES = 32 * 2**20  # a header of 100,000 tensors takes 12 MB
MAX_SHARDS = 10_000
_NAME = re.compile(r"[\w.-]+\.safetensors")
# bits an element; types that the format's specification lists
TYPE_BITS = {
    **dict.fromkeys(("F64", "I64", "U64", "C64"), 64),
    **dict.fromkeys(("F32", "I32", "U32"), 32),
    **dict.fromkeys(("F16", "BF16", "I16", "U16"), 16),
    **dict.fromkeys(("F8_E4M3", "F8_E5M2", "F8_E8M0", "I8", "U8", "BOOL"), 8),
    **dict.fromkeys(("F6_E2M3", "F6_E3M2"), 6),
    "F4": 4,
}


class StoredTensor(msgspec.Struct, frozen=True, kw_only=True):
    """One tensor as the header describes it."""

    name: str
    type_name: str
    shape: tuple[int, ...]
    size_bytes: int
    offset_bytes: int  # from the start of the data

    @property
    def elements(self) -> int:
        """Number of elements."""
        count = 1
        for size in self.shape:
            count *= size
        return count


def read_header(path: Path) -> tuple[dict[str, Any], list[StoredTensor]]:
    """One file's metadata and tensors.

    Raises
    ------
    InputError
        The file is not a safetensors file, truncated, or its header contradicts itself or the file's size.
    """
    try:
        with path.open("rb") as file:
            size = file.seek(0, 2)
            file.seek(0)
            length = int.from_bytes(file.read(8), "little")
            if size < 10 or length > size - 8:
                raise _refuse(
                    path, f"is not a safetensors file or is truncated: it claims a header of {length:,} bytes"
                )
            if length > MAX_HEADER_BYTES:
                raise _refuse(path, f"claims a header of {length:,} bytes, more than any model has")
            raw = file.read(length)
    except OSError as err:
        raise InputError(f"cannot be read ({err.strerror})", str(path), "Check the path and its permissions.") from err
    try:
        header = json.loads(raw)
    except (ValueError, RecursionError) as err:
        raise _refuse(path, "holds a header that is not JSON") from err
    if not isinstance(header, dict):
        raise _refuse(path, "holds a header that is not a JSON object")
    metadata = header.pop("__metadata__", {})
    tensors = _tensors(path, header, size - 8 - length)
    return metadata if isinstance(metadata, dict) else {}, tensors


def find_files(path: Path) -> list[Path]:
    """The files of a model: a file itself, or the shards that an index names.

    Raises
    ------
    InputError
        The index is malformed, names a file outside its folder, or a shard is missing.
    """
    if not path.name.endswith(".index.json"):
        return [path]
    index = read_object(path)
    names = index.get("weight_map")
    if not isinstance(names, dict) or not names or not all(isinstance(name, str) for name in names.values()):
        raise _refuse(path, "holds no weight_map from tensors to files")
    files = sorted(set(names.values()))
    if len(files) > MAX_SHARDS:
        raise _refuse(path, f"names {len(files):,} files")
    odd = next((name for name in files if not _NAME.fullmatch(name)), None)
    if odd is not None:
        raise _refuse(
            path, f'names a file "{shorten(visible(odd, keep_lines=False), 60)}" that is not a plain file name'
        )
    missing = [name for name in files if not (path.parent / name).is_file()]
    if missing:
        raise InputError(
            f"{len(missing)} of {len(files)} shards missing, first {missing[0]}",
            str(path),
            "Fetch all shards into the folder of the index.",
        )
    return [path.parent / name for name in files]


def check_index(path: Path, held: dict[str, str]) -> None:
    """Hold an index against the shards: each tensor in the file that the index says.

    Parameters
    ----------
    path : Path
        The index.
    held : dict
        Tensor name -> name of the file that really holds it.

    Raises
    ------
    InputError
        They differ.
    """
    said = read_object(path)["weight_map"]
    wrong = [name for name in sorted(said.keys() | held.keys()) if said.get(name) != held.get(name)]
    if wrong:
        shown = shorten(visible(wrong[0], keep_lines=False), 80)
        raise InputError(
            f"disagrees with the shards on {len(wrong)} tensors, first {shown}",
            str(path),
            "Fetch index and shards again.",
        )


def read_object(path: Path) -> dict[str, Any]:
    """A JSON object beside the weights, within the bound of a header.

    Raises
    ------
    InputError
        It is missing, too large or no JSON object.
    """
    try:
        if path.stat().st_size > MAX_HEADER_BYTES:
            raise _refuse(path, "is larger than any index or configuration")
        data = json.loads(path.read_bytes())
    except OSError as err:
        raise InputError(f"cannot be read ({err.strerror})", str(path), "Check the path and its permissions.") from err
    except (ValueError, RecursionError) as err:
        raise _refuse(path, "is not JSON") from err
    if not isinstance(data, dict):
        raise _refuse(path, "is not a JSON object")
    return data


def _tensors(path: Path, header: dict[str, Any], room: int) -> list[StoredTensor]:
    places, tensors = [], []
    for name, entry in header.items():
        shown = shorten(visible(name, keep_lines=False), 80)
        try:
            kind, shape, (begin, end) = entry["dtype"], tuple(entry["shape"]), entry["data_offsets"]
            sound = isinstance(kind, str) and all(type(n) is int and 0 <= n < 1 << 48 for n in (*shape, begin, end))
        except (TypeError, KeyError, ValueError):
            sound = False
        if not sound or len(shape) > 8:
            raise _refuse(path, f'describes tensor "{shown}" wrongly')
        if not begin <= end <= room:
            raise _refuse(path, f'is truncated or lies: tensor "{shown}" ends at byte {end:,} of {room:,}')
        tensor = StoredTensor(name=name, type_name=kind, shape=shape, size_bytes=end - begin, offset_bytes=begin)
        bits = TYPE_BITS.get(kind)
        if bits is not None and tensor.elements * bits != 8 * tensor.size_bytes:
            raise _refuse(path, f'gives tensor "{shown}" {tensor.size_bytes:,} bytes for {tensor.elements:,} of {kind}')
        places.append((begin, end, shown))
        tensors.append(tensor)
    places.sort()
    for (_, end, _), (begin, _, shown) in itertools.pairwise(places):
        if begin < end:
            raise _refuse(path, f'lets tensor "{shown}" overlap another')
    return tensors


def _refuse(path: Path, what: str) -> InputError:
    return InputError(what, str(path), "The file is damaged or foreign; fetch it again and compare its digest.")
