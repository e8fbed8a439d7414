"""How a kind of check is written in an exercise: its table, the files beside it, what must hold among its fields."""

from collections.abc import Callable, Iterable, Sequence
from pathlib import Path
from typing import Any, Literal, Protocol, TypeVar

import msgspec

from kettlefield.core.errors import InputError
from kettlefield.suite.format import Check
from kettlefield.suite.typed_toml import parse_json

C = TypeVar("C", bound=msgspec.Struct)
# what an answer is: code that is run, prose that is read, a page that is opened
AnswerForm = Literal["code", "text", "page"]


class TextReader(Protocol):
    """Reads an exercise's files with its parameters filled in."""

    def text(self, path: Path) -> str:
        """The content of a file."""
        ...


class CheckForm(msgspec.Struct, frozen=True, kw_only=True):
    """One kind of check as exercises write it."""

    spec: type[Check]  # the fields of its table; the tag is the kind's name
    answers: AnswerForm = "code"
    read: Callable[[Any, Path, TextReader], tuple[Any, ...]] | None = None  # its cases: check, folder, reader
    scripts: Callable[[Any], tuple[str, ...]] = lambda _: ()  # Python files beside exercise.toml that it runs
    calls: Callable[[Any], bool] = lambda _: False  # whether functions of the answer are called one by one
    faults: Callable[[Any], Iterable[tuple[str, str]]] = lambda _: ()  # what is wrong with its fields; what to do
    one_value: Callable[[Any], bool] = lambda _: True  # what a case expects is one value: it can be worked out

    @property
    def name(self) -> str:
        """As exercises write it."""
        return str(self.spec.__struct_config__.tag)


def kind_name(check: Check) -> str:
    """The name of a check's kind."""
    return str(check.__struct_config__.tag)


def read_cases(path: Path, kind: type[C], read: TextReader, expects: Sequence[str] = ()) -> tuple[C, ...]:
    """A JSON file with a list of cases.

    Parameters
    ----------
    path : Path
        The file.
    kind : type of msgspec.Struct
        Of one case.
    read : TextReader
        Fills the exercise's parameters in.
    expects : sequence of str
        Fields of which a case must have one; none: no field is asked for.

    Raises
    ------
    InputError
        It is not such a list; the message names the case.
    """
    data = parse_json(read.text(path), path)
    if not isinstance(data, list) or not data:
        raise InputError("holds no list of cases", str(path), 'Write [{"args": ...}, ...] with at least one case.')
    cases = []
    for number, entry in enumerate(data, 1):
        if expects and isinstance(entry, dict) and not set(expects) & set(entry):
            *first, last = expects
            hint = f"Write {', '.join(first)} or {last}."
            raise InputError(f"case {number} expects nothing", str(path), hint)
        try:
            cases.append(msgspec.convert(entry, kind))
        except msgspec.ValidationError as err:
            raise InputError(f"case {number}: {err}", str(path), "See docs/reference for the fields.") from err
    return tuple(cases)
