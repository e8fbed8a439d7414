"""Variants of an exercise: parameters drawn from a seed, filled into every text that the exercise holds.

Seed 0 is the exercise as it was written, with its own values; any other seed draws. What a variant's
answers are is not in its files: it is worked out by running its own answer.
"""

import hashlib
import random
import re
from collections.abc import Mapping
from pathlib import Path

from kettlefield.core.errors import InputError
from kettlefield.suite.format import Parameter

BASE_SEED = 0
# a number beside it is added: cases at the edges; after "=" stands the value where an exercise declares none
_PLACE = re.compile(r"@@([a-z][a-z0-9_]*)(?:([+-][0-9]{1,6})|=([^@\n]*))?@@")


def draw_values(parameters: Mapping[str, Parameter], exercise_id: str, seed: int) -> dict[str, str]:
    """A value for each parameter, as text; the same seed always draws the same.

    Parameters
    ----------
    parameters : mapping of str to Parameter
        As the exercise declares them.
    exercise_id : str
        Exercises draw independently of each other.
    seed : int
        ``BASE_SEED`` gives the values that the exercise was written with.
    """
    if seed == BASE_SEED:
        return {name: str(parameter.base) for name, parameter in parameters.items()}
    drawn = {}
    for name in sorted(parameters):
        key = hashlib.sha256(f"{exercise_id}\0{name}\0{seed}".encode()).digest()
        drawn[name] = str(_draw(parameters[name], random.Random(key)))
    return drawn


def _draw(parameter: Parameter, rng: random.Random) -> int | str:
    """Any value but the base, so that a variant differs."""
    if parameter.pick:
        return rng.choice([value for value in parameter.pick if value != parameter.base])
    steps = range(parameter.low or 0, (parameter.high or 0) + 1, parameter.step)
    return rng.choice([value for value in steps if value != parameter.base])


def fill(text: str, values: Mapping[str, str], path: Path) -> str:
    """The text with every ``@@name@@`` replaced, ``@@name+1@@`` by the value and one.

    ``@@name=7@@``, in a text that several exercises share, is 7 for those that do not declare the parameter.

    Raises
    ------
    InputError
        A name is not declared, or something is to be added to a word.
    """

    def replace(match: "re.Match[str]") -> str:
        if match[1] not in values and match[3] is not None:
            return match[3]
        if match[1] not in values:
            raise InputError(
                f"@@{match[1]}@@ is not a parameter", str(path), f"Declare [vary.{match[1]}] in exercise.toml."
            )
        value, offset = values[match[1]], match[2]
        if offset is None:
            return value
        try:
            return str(int(value) + int(offset))
        except ValueError:
            hint = "Only a parameter that is a whole number can be added to."
            raise InputError(f"{match[0]} stands for a word", str(path), hint) from None

    return _PLACE.sub(replace, text) if "@@" in text else text
