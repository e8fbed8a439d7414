"""A record as a plain dictionary, with the records inside it."""

from typing import Any

import msgspec


def as_dict(record: msgspec.Struct) -> dict[str, Any]:
    """Field -> value; records in lists, tuples and dictionaries are dictionaries too, all else is what it was."""
    return {name: _plain(getattr(record, name)) for name in record.__struct_fields__}


def _plain(value: Any) -> Any:
    if isinstance(value, msgspec.Struct):
        return as_dict(value)
    if isinstance(value, list | tuple):
        return type(value)(_plain(one) for one in value)
    if isinstance(value, dict):
        return {name: _plain(one) for name, one in value.items()}
    return value
