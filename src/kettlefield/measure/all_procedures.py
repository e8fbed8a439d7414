"""The procedures that there are, in the order in which they run.

A procedure is a module of this package with a ``Procedure``; modules of third parties add theirs through the
entry-point group ``kettlefield.procedures``, and a plan asks for one of those by its name under ``[speed] also``.
"""

from collections.abc import Iterator

from kettlefield.measure.procedure import Procedure, Wish
from kettlefield.registry import Registry

PROCEDURES: Registry[Procedure] = Registry(Procedure, package="kettlefield.measure", group="kettlefield.procedures")


def in_order() -> list[Procedure]:
    """All of them, what may bring the server down last."""
    return sorted(PROCEDURES.values(), key=lambda one: (one.rank, one.name))


def asked_for(wish: Wish) -> Iterator[Procedure]:
    """Those that a plan asks for."""
    return (one for one in in_order() if one.wanted(wish) or one.name in wish.speed.also)
