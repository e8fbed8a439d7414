"""Read a TOML or JSON file into a typed struct; every error names the file, the key and the remedy."""

import difflib
import json
import re
from pathlib import Path
from typing import Any, TypeVar, get_args, get_type_hints

import msgspec
import tomli

from kettlefield.core.errors import InputError
from kettlefield.core.plaintext import visible
from kettlefield.core.renames import new_key
from kettlefield.core.units import Duration, Size, parse_duration, parse_size

S = TypeVar("S", bound=msgspec.Struct)
MAX_FILE_BYTES = 4 * 2**20  # far above any real plan or exercise; a hostile file is refused before it is parsed
_UNKNOWN = re.compile(r"Object contains unknown field `(?P<key>.*?)`(?: - at `(?P<path>.*?)`)?$", re.DOTALL)
_AT = re.compile(r" - at `(?P<path>.*?)`$")


def read_text(path: Path) -> str:
    """A UTF-8 text file's content.

    Raises
    ------
    InputError
        Not there, not a file, not readable, too large or not UTF-8.
    """
    try:
        if path.is_dir():
            raise InputError("is a folder", str(path), "Name a file.")
        if path.stat().st_size > MAX_FILE_BYTES:
            raise InputError("is larger than 4 MiB", str(path), "Plans and exercises are small; check the name.")
        return path.read_bytes().decode("utf-8")
    except FileNotFoundError as err:
        raise InputError("there is no such file", str(path), "Check the name.") from err
    except UnicodeDecodeError as err:
        raise InputError(f"is not UTF-8 text (byte {err.start})", str(path), "Save it as UTF-8.") from err
    except OSError as err:
        raise InputError(f"cannot be read ({err.strerror})", str(path), "Check its permissions.") from err


def read_toml(path: Path) -> dict[str, Any]:
    """A TOML file as plain data.

    Raises
    ------
    InputError
        Not readable or not TOML; the message holds the line and column.
    """
    text = read_text(path)
    try:
        return tomli.loads(text)
    except (tomli.TOMLDecodeError, RecursionError) as err:
        raise InputError(f"is not valid TOML: {err}", str(path), "Correct the file there.") from err


def parse_json(text: str, path: Path) -> Any:
    """The text of a JSON file as plain data.

    Raises
    ------
    InputError
        Not JSON; the message holds the line and column.
    """
    try:
        return json.loads(text)
    except (json.JSONDecodeError, RecursionError) as err:
        raise InputError(f"is not valid JSON: {err}", str(path), "Correct the file there.") from err


def to_struct(data: Any, kind: type[S], path: Path | str) -> S:
    """Plain data as a typed struct.

    Parameters
    ----------
    data : plain data
        As read from TOML or JSON.
    kind : type of msgspec.Struct
        With ``forbid_unknown_fields``.
    path : Path or str
        Where the data comes from, for the error.

    Raises
    ------
    InputError
        A key is unknown (the nearest known one is named), missing or of the wrong type.
    """
    try:
        return msgspec.convert(data, kind, strict=True, dec_hook=_quantity)
    except msgspec.ValidationError as err:
        raise _explain(str(err), kind, path) from err


def _quantity(kind: type, value: Any) -> Any:
    """Text with a unit as a size or a duration; msgspec adds the place to what is raised here."""
    parsers = {Size: parse_size, Duration: parse_duration}
    if kind not in parsers:
        raise NotImplementedError(f"no such quantity: {kind}")
    if not isinstance(value, str):
        raise ValueError(
            f"is {value!r}, which has no unit; write text such as {'16 GiB' if kind is Size else '90 s'!r}"
        )
    try:
        return kind(parsers[kind](value))
    except ValueError as err:
        raise ValueError(f'is "{visible(value, keep_lines=False)}"; {err}') from err


def nearest(word: str, known: list[str]) -> str:
    """A hint that names the nearest known word, or all of them when none is near."""
    close = difflib.get_close_matches(word, known, n=1, cutoff=0.5)
    return f'Did you mean "{close[0]}"?' if close else f"Known here: {', '.join(sorted(known))}."


def _explain(message: str, kind: type[msgspec.Struct], path: Path | str) -> InputError:
    unknown = _UNKNOWN.match(message)
    if unknown is not None:
        where, key = unknown["path"] or "$", unknown["key"]
        # the message names the place, msgspec's own path ends at the object that holds the key
        known = _fields_at(kind, where)
        shown = visible(key, keep_lines=False)
        now = new_key(key)
        hint = f'It is called "{now}" now.' if now in known else nearest(key, known)
        return InputError(f'unknown key "{shown}"', _place(path, where), hint)
    at = _AT.search(message)
    where = at["path"] if at else "$"
    what = _AT.sub("", message)
    what = what[:1].lower() + what[1:]
    return InputError(what, _place(path, where), "Correct that value; the formats are described in docs/reference.")


def _place(path: Path | str, where: str) -> str:
    """``plan.toml [candidate 2] weights`` from a path such as ``$.candidate[1].weights``."""
    inner = where.removeprefix("$").removeprefix(".")
    inner = re.sub(r"\[(\d+)\]", lambda m: f" {int(m[1]) + 1}", inner.replace("[...]", ""))
    return f"{path} [{inner.replace('.', '] ', 1) if '.' in inner else inner + ']'}" if inner else str(path)


def _fields_at(kind: type[msgspec.Struct], where: str) -> list[str]:
    current: Any = kind
    for name in re.findall(r"\.([A-Za-z_]\w*)", where):
        hints = get_type_hints(current)
        current = _struct_in(hints.get(name))
        if current is None:
            return []
    return [field.encode_name for field in msgspec.structs.fields(current)]


def _struct_in(hint: Any) -> Any:
    """The struct class inside ``tuple[X, ...]``, ``X | None`` and the like."""
    if isinstance(hint, type) and issubclass(hint, msgspec.Struct):
        return hint
    return next((struct for arg in get_args(hint) if (struct := _struct_in(arg)) is not None), None)
