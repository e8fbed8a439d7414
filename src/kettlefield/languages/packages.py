"""Declared Python packages: where they are installed, and their versions."""

from functools import cache
from importlib import metadata
from pathlib import Path

import msgspec
from packaging.requirements import Requirement


class Packages(msgspec.Struct, frozen=True, kw_only=True):
    """Declared packages with all that they need, as they are installed beside us."""

    versions: tuple[tuple[str, str], ...]  # of those declared
    mounts: tuple[str, ...]  # files and folders to be seen from inside an isolation
    search: tuple[str, ...]  # folders in which to look for them


@cache
def find_packages(names: tuple[str, ...]) -> Packages | str:
    """The packages of those names, or the name of the first that is missing.

    Parameters
    ----------
    names : tuple of str
        Distribution names, such as "pandas".
    """
    distributions: dict[str, metadata.Distribution] = {}
    wanted = list(names)
    while wanted:
        name = _plain(wanted.pop())
        if name in distributions:
            continue
        try:
            distributions[name] = metadata.distribution(name)
        except metadata.PackageNotFoundError:
            return name
        wanted += _needs(distributions[name])
    paths = sorted({path for distribution in distributions.values() for path in _top_level(distribution)})
    return Packages(
        versions=tuple((name, distributions[_plain(name)].version) for name in names),
        mounts=tuple(map(str, paths)),
        search=tuple(sorted({str(path.parent) for path in paths})),
    )


def _plain(name: str) -> str:
    return name.lower().replace("_", "-")


def _needs(distribution: metadata.Distribution) -> list[str]:
    requirements = map(Requirement, distribution.requires or [])
    return [need.name for need in requirements if need.marker is None or need.marker.evaluate({"extra": ""})]


def _top_level(distribution: metadata.Distribution) -> list[Path]:
    """What a distribution lays into its site folder: packages, single modules and libraries, no scripts."""
    tops = {file.parts[0] for file in distribution.files or [] if file.parts[0] not in {"..", "__pycache__"}}
    return [
        path
        for top in tops
        if (path := Path(str(distribution.locate_file(top)))).exists() and not top.endswith(".dist-info")
    ]
