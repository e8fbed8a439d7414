"""Keys of servers reached by url: read from the environment when they are needed, kept nowhere."""

import os

from kettlefield.core.errors import InputError


def key_headers(key_from: str | None) -> dict[str, str]:
    """The header that carries a key, as RFC 6750 has it; empty where none is wanted.

    Parameters
    ----------
    key_from : str or None
        Name of the environment variable.

    Raises
    ------
    InputError
        It is not set, or holds what no header can.
    """
    if key_from is None:
        return {}
    key = os.environ.get(key_from, "")
    if not key or not key.isascii() or not key.isprintable():
        what = "holds no key" if key else "is not set"
        raise InputError(f"environment variable {key_from} {what}", "[server] key_from", f"export {key_from}=...")
    return {"Authorization": f"Bearer {key}"}
