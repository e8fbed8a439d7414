"""Variants of an exercise: parameters drawn from a seed, filled into every text that the exercise holds.

Seed 0 is the exercise as it was written, with its own values; any other seed draws. What a variant's
answers are is not in its files: it is worked out by running its own answer.
"""

import hashlib
import itertools
import random
import re
from collections.abc import Iterable, Mapping
from pathlib import Path

from kettlefield.core.errors import InputError
from kettlefield.suite.format import Parameter

BASE_SEED = 0
# a number beside it is added: cases at the edges; after "=" stands the value where an exercise declares none
_PLACE = re.compile(r"@@([a-z][a-z0-9_]*(?:\.[a-z][a-z0-9_]*)?)(?:([+-][0-9]{1,6})|=([^@\n]*))?@@")

_SENTENCE_END = re.compile(r"(?<=[.!?])\s|\n\s*\n|\n\s*[-*] ")
PLAIN_NUMBER = 10  # a smaller one often stands in a prompt by chance


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

    Returns
    -------
    dict
        A parameter's name to its value, and ``name.text`` to each text of the way drawn.
    """
    drawn: dict[str, int | str] = {name: parameter.base for name, parameter in parameters.items()}
    ways = sorted(name for name in parameters if parameters[name].ways)
    if seed != BASE_SEED:
        for name in sorted(set(parameters) - set(ways)):
            drawn[name] = _draw_value(parameters[name], _chance(exercise_id, name, seed))
        # all ways together: two rules with two ways each make three variants, not one
        others = list(itertools.product(*(sorted(parameters[name].ways) for name in ways)))
        if ways and len(ways) == len(parameters):
            others.remove(tuple(str(parameters[name].base) for name in ways))
        drawn |= dict(zip(ways, _chance(exercise_id, "ways", seed).choice(others), strict=True))
    texts = {f"{name}.{key}": text for name in ways for key, text in parameters[name].ways[str(drawn[name])].items()}
    return {name: str(value) for name, value in drawn.items()} | texts


def _chance(exercise_id: str, name: str, seed: int) -> random.Random:
    return random.Random(hashlib.sha256(f"{exercise_id}\0{name}\0{seed}".encode()).digest())


def _draw_value(parameter: Parameter, rng: random.Random) -> int | str:
    """Any value but the base, so that a variant differs."""
    if parameter.pick:
        return rng.choice([value for value in parameter.pick if value != parameter.base])
    steps = range(parameter.low or 0, (parameter.high or 0) + 1, parameter.step)
    return rng.choice([value for value in steps if value != parameter.base])


def misread(text: str, parameters: Mapping[str, Parameter]) -> Iterable[str]:
    """Where a variant of a prompt would read wrongly, in words.

    Parameters
    ----------
    text : str
        The prompt as written, its places not filled.
    parameters : mapping of str to Parameter
        As the exercise declares them.

    Yields
    ------
    str
        A word that can be drawn and stands in the prompt beside its place, where it means something else or was
        forgotten; an article that does not fit what can follow it.
    """
    plain = _PLACE.sub(" ", text)
    for name, parameter in parameters.items():
        words = [value for value in (parameter.base, *parameter.pick) if isinstance(value, str)]
        near = " ".join(_PLACE.sub(" ", part) for part in _SENTENCE_END.split(text) if f"@@{name}@@" in part)
        for word in [] if parameter.ways else words:
            if re.search(rf"\b{re.escape(word)}\b", near, re.IGNORECASE):
                yield f'"{word}" stands beside @@{name}@@, which can be "{word}" too'
        number = parameter.base
        if isinstance(number, int) and number >= PLAIN_NUMBER and re.search(rf"(?<![\d.:]){number}(?![\d.:]\d)", plain):
            yield f"{number} is written out, where a variant has another value of @@{name}@@"
        texts = {name: words} if not parameter.ways else {}
        for way in parameter.ways.values():
            for key, said in way.items():
                texts.setdefault(f"{name}.{key}", []).append(said)
        for place, sayings in texts.items():
            for article in re.findall(rf"\b(an?) @@{re.escape(place)}@@", text, re.IGNORECASE):
                unfit = [said for said in sayings if said and (said[0].lower() in "aeiou") != (article.lower() == "an")]
                yield from (f'"{article} {said}" is what a variant would say' for said in unfit)


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
