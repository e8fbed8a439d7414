"""The languages that an exercise may ask for, and their toolchains on this rig."""

from functools import cache
from typing import cast

from kettlefield.core.extraction.syntax import Syntaxes
from kettlefield.languages.language import Language, Missing, Toolchain
from kettlefield.registry import Registry

_REGISTRY: Registry[Language] = Registry(Language, package="kettlefield.languages", group="kettlefield.languages")


class Languages(Syntaxes):
    """The languages by name, with all that building and running needs to know of them."""

    def __getitem__(self, name: str) -> Language:
        """The language of that name."""
        return cast("Language", super().__getitem__(name))

    @property
    def with_toolchain(self) -> tuple[Language, ...]:
        """Those that need a program on the rig: first what programs are written in, then pages."""
        return tuple(
            sorted((self[name] for name in self if self[name].probe is not None), key=lambda one: not one.runs)
        )


LANGUAGES = Languages(_REGISTRY)


@cache
def find_toolchain(language: str) -> Toolchain | Missing:
    """The toolchain of a language on this rig, or what would install it.

    Raises
    ------
    ValueError
        The language is not a known one, or nothing of it is run.
    """
    probe = LANGUAGES[language].probe if language in LANGUAGES else None
    if probe is None:
        wanted = [one.name for one in LANGUAGES.with_toolchain]
        raise ValueError(f"language={language!r}: wanted one of {wanted}")
    return probe()
