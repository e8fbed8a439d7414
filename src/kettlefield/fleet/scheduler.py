"""The scheduler of a fleet, Dask's own: connecting to it, and which workers it has."""

import asyncio
import concurrent.futures
import contextlib
import logging
from collections.abc import Callable, Collection, Iterator, Mapping
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
        Nothing answers there, or no longer.
    """
    if not address.startswith(_SCHEMES):
        raise InputError("is not the address of a scheduler", address, "Write tcp://HOST:8786, or tls://HOST:8786.")
    try:
        from distributed import Client  # noqa: PLC0415 - an optional package
        from distributed.client import ClosedClientError  # noqa: PLC0415
        from distributed.comm.core import CommClosedError  # noqa: PLC0415
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
    except (ClosedClientError, CommClosedError, asyncio.CancelledError, concurrent.futures.CancelledError) as err:
        raise gone(client) from err  # of what was submitted, no result comes any more
    finally:
        client.close()


def gone(client: Any) -> RigError:
    """What to raise when a scheduler answers no longer."""
    hint = "Start it again; the same command resumes, since the record has every finished trial."
    return RigError("the scheduler is gone", str(client.scheduler.address), hint)


def workers_of(client: Any) -> Mapping[str, Mapping[str, Any]]:
    """All workers that a scheduler has, by their addresses, with what it knows of each.

    Raises
    ------
    RigError
        The scheduler is gone.
    """
    try:
        # not client.scheduler_info: the client renews what that gives in the background, without the workers
        workers: Mapping[str, Mapping[str, Any]] = client.sync(client.scheduler.identity, n_workers=-1)["workers"]
    except OSError as err:  # Dask's own errors of communication are such
        raise gone(client) from err
    return workers


def ask_workers(client: Any, workers: Collection[str], function: Callable[..., Any], *words: Any) -> dict[str, Any]:
    """Run a function on workers, beside what they do, and give what each returned or raised, by its address.

    Raises
    ------
    RigError
        The scheduler is gone.
    """
    if not workers:
        return {}
    try:
        said: dict[str, Any] = client.run(function, *words, workers=list(workers), on_error="return")
    except OSError as err:
        raise gone(client) from err
    return said
