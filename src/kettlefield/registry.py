"""Objects that extend the tool: one module each, found in a package of ours and through entry points of others."""

import importlib
import logging
import pkgutil
from collections.abc import Iterator, Mapping
from importlib.metadata import EntryPoint, entry_points
from types import ModuleType
from typing import Generic, TypeVar

T = TypeVar("T")
logger = logging.getLogger(__name__)


class Registry(Mapping[str, T], Generic[T]):
    """The objects of one kind by name, loaded when they are first asked for.

    A module offers each of its objects as a global of its own. A third party's module is named by an entry point; one
    that cannot be loaded, or that takes a name that is taken, is left out and named in ``faults``.
    """

    def __init__(self, kind: type[T], *, package: str, group: str) -> None:
        self._kind, self._package, self._group = kind, package, group
        self._known: dict[str, T] | None = None
        self.faults: dict[str, str] = {}  # entry point -> why it was left out

    def __getitem__(self, name: str) -> T:
        """The object of that name."""
        return self._loaded()[name]

    def __iter__(self) -> Iterator[str]:
        """Every name."""
        return iter(self._loaded())

    def __len__(self) -> int:
        """How many there are."""
        return len(self._loaded())

    def _loaded(self) -> dict[str, T]:
        if self._known is None:
            known: dict[str, T] = {}
            module = importlib.import_module(self._package)
            for info in pkgutil.iter_modules(getattr(module, "__path__", [])):
                known |= self._offered(importlib.import_module(f"{self._package}.{info.name}"))
            known |= self._offered(module)
            self._known = known
            for point in entry_points(group=self._group):
                self._take(point, known)
        return self._known

    def _take(self, point: EntryPoint, known: dict[str, T]) -> None:
        try:
            loaded = point.load()
            offered = self._offered(loaded) if isinstance(loaded, ModuleType) else {self._name(loaded): loaded}
        except Exception as err:
            self.faults[point.name] = f"{point.value} cannot be loaded: {type(err).__name__}: {err}"
        else:
            taken = next((name for name in offered if name in known), None)
            if taken is None and offered:
                known |= offered
                return
            what = f'the name "{taken}" is taken' if taken is not None else f"it offers no {self._kind.__name__}"
            self.faults[point.name] = f"{point.value}: {what}"
        logger.warning("left out: %s", self.faults[point.name])

    def _offered(self, module: ModuleType) -> dict[str, T]:
        objects = [value for value in vars(module).values() if isinstance(value, self._kind)]
        objects += [
            one
            for value in vars(module).values()
            if isinstance(value, tuple)
            for one in value
            if isinstance(one, self._kind)
        ]
        return {self._name(one): one for one in objects}

    def _name(self, one: object) -> str:
        if not isinstance(one, self._kind):
            raise TypeError(f"is not a {self._kind.__name__}")
        return str(getattr(one, "name"))  # noqa: B009 - every kind has one
