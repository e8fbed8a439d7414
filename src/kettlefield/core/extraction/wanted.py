"""What is wanted of a reply, and what was found in it."""

from collections.abc import Mapping

import msgspec


class Gap(msgspec.Struct, frozen=True, kw_only=True):
    """The code that stands before and after what the model was to write."""

    opening: str
    closing: str = ""


class Wanted(msgspec.Struct, frozen=True, kw_only=True):
    """What the exercise asks for, as far as it guides the choice among blocks."""

    language: str  # a known language, ANY or TEXT
    file: str  # name that the extracted text gets
    entry: str | None = None  # function or class that must be there; None for a whole program
    others: tuple[str, ...] = ()  # further files that the answer must hold
    given: Mapping[str, str] = msgspec.field(default_factory=dict)  # files the model was shown, to be edited
    gap: Gap | None = None
    continued: bool = False  # the reply carries on the opening itself, without a fence or a word


class Answer(msgspec.Struct, frozen=True, kw_only=True):
    """What was found in a reply; without files there is no answer, and ``how`` says why."""

    files: Mapping[str, str]  # name to text; the one that is built and run comes first
    how: str
    remarks: tuple[str, ...] = ()
    cut: bool = False  # the block that was taken never ended
    language: str | None = None  # what the answer is written in, as far as it is known

    @property
    def main(self) -> str:
        """The name of the file that is built and run: the first."""
        return next(iter(self.files))

    @property
    def text(self) -> str:
        """The text of that file."""
        return self.files[self.main]


def main_first(files: Mapping[str, str], main: str) -> dict[str, str]:
    """The files with the main one, which is built and run, first."""
    return {name: files[name] for name in sorted(files, key=lambda name: (name != main, name))}
