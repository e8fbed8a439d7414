"""File names that others wrote: which may be laid into a folder, which leave it, and which cannot stand together."""

from collections.abc import Iterable

MAX_NAME_CHARS = 200
MAX_DEPTH = 5  # folders; more is no small program


def is_safe_name(name: str) -> bool:
    """Whether a file name stays inside its folder and shows as what it is.

    Relative, with plain slashes, no ``.`` or ``..``, no hidden part, no drive letter, nothing unprintable
    (a NUL among it), and not longer or deeper than any honest file of an answer.
    """
    parts = name.split("/")
    return (
        0 < len(name) <= MAX_NAME_CHARS
        and len(parts) <= MAX_DEPTH
        and not any(part == "" or part.startswith((".", "-", "~")) or part != part.strip() for part in parts)
        and not any(ch in '\\:*?"<>|' for ch in name)
        and name.isprintable()
    )


def fits_beside(name: str, others: Iterable[str]) -> bool:
    """Whether a file can lie beside others: none of them is a folder on the other's path."""
    return not any(other.startswith(f"{name}/") or name.startswith(f"{other}/") for other in others)
