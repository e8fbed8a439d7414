"""Which program serves: the files that a server's command names, with their digests."""

import shutil
from collections.abc import Sequence
from pathlib import Path

from kettlefield.core.errors import InputError
from kettlefield.weights.digest import weights_digest


def digest_programs(command: Sequence[str], folder: Path, *, apart_from: Sequence[Path] = ()) -> dict[str, str]:
    """The SHA-256 of the command's program and of every other file that it names, such as a script.

    Parameters
    ----------
    command : sequence of str
        Its words, filled in.
    folder : Path
        What relative paths are relative to.
    apart_from : sequence of Path
        Files that have a digest of their own, as the weights.

    Returns
    -------
    dict
        Path as written -> digest in hexadecimal; what cannot be read is left out.
    """
    left_out = {path.resolve() for path in apart_from}
    found = {}
    for number, word in enumerate(command):
        path = folder / word
        if number == 0 and not path.is_file():
            path = Path(shutil.which(word) or word)
        if not path.is_file() or path.resolve() in left_out:
            continue
        try:
            found[str(path)] = weights_digest(path.resolve())
        except InputError:
            continue  # a file that we may not read; the server may
    return found
