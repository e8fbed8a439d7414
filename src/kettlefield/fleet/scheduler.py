"""The scheduler of a fleet, Dask's own: connecting to it, and which workers it has."""

import contextlib
import logging
from collections.abc import Iterator, Mapping
from typing import Any

from kettlefield.core.errors import InputError, RigError

CONNECT_WITHIN_S = 10
EXCLUSIVE = "rig"  # the resource that a worker of a rig is started with: dask worker ... --resources "rig=1"
GRADER = "grader"  # that of a worker which grades replies for rigs
_SCHEMES = ("tcp://", "tls://", "ws://", "wss://", "ucx://")  # of Dask's own
_INSTALL = "Install it on every machine: pip install 'kettlefield[fleet]'."


@contextlib.contextmanager
def connected(address: str) -> Iterator[Any]:
    """A client of a fleet's scheduler.

    Raises
    ------
    InputError
        Dask is not installed, or the address cannot be one.
    RigError
        Nothing answers there.
    """
    if not address.startswith(_SCHEMES):
        raise InputError("is not the address of a scheduler", address, "Write tcp://HOST:8786, or tls://HOST:8786.")
    try:
        from distributed import Client  # noqa: PLC0415 - an optional package
    except ModuleNotFoundError as err:
        raise InputError(f"needs {err.name}, which is not installed", "--fleet", _INSTALL) from err
    for name in ("distributed", "tornado", "asyncio"):  # what of theirs matters is said by us, in a line
        logger = logging.getLogger(name)
        logger.handlers, logger.propagate = [logging.NullHandler()], False
    try:
        client: Any = Client(address, timeout=CONNECT_WITHIN_S, set_as_default=False)  # type: ignore[no-untyped-call]
    except (OSError, TimeoutError, ValueError) as err:
        hint = "Start it with `dask scheduler`, and check the address and the firewall."
        raise RigError("no scheduler answers there", address, hint) from err
    try:
        yield client
    finally:
        client.close()


def workers_of(client: Any) -> Mapping[str, Mapping[str, Any]]:
    """All workers that a scheduler has, by their addresses, with what it knows of each."""
    # not client.scheduler_info: the client renews what that gives in the background, without the workers
    workers: Mapping[str, Mapping[str, Any]] = client.sync(client.scheduler.identity, n_workers=-1)["workers"]
    return workers
