"""What exercises are told apart by, and whether one has the properties that are asked for."""

from collections.abc import Mapping, Sequence

PROPERTIES = ("kind", "language", "difficulty", "topic", "suite")


def belongs(exercise: Mapping[str, str], wanted: Sequence[tuple[str, str]]) -> bool:
    """Whether an exercise has every property wanted.

    Parameters
    ----------
    exercise : mapping
        `PROPERTIES` to text; several topics stand in one, divided by commas.
    wanted : sequence of (str, str)
        Property and value; all must hold.
    """
    return all(
        value in exercise[name].split(",") if name == "topic" else exercise[name] == value for name, value in wanted
    )
