"""The page cache: dropping a file's pages from it, so that a load is read from the disk again."""

import contextlib
import json
import os
import shutil
import subprocess
from collections.abc import Iterable
from pathlib import Path


def drop_pages(paths: Iterable[Path]) -> None:
    """Ask the kernel to forget the cached pages of files; what another process has mapped stays."""
    for path in paths:
        with contextlib.suppress(OSError):
            handle = os.open(path, os.O_RDONLY)
            try:
                os.fdatasync(handle)  # pages not yet written cannot be dropped
                os.posix_fadvise(handle, 0, 0, os.POSIX_FADV_DONTNEED)
            finally:
                os.close(handle)


def cached_bytes(paths: Iterable[Path]) -> int | None:
    """How much of files the page cache holds, as util-linux's fincore counts it; None where it is not installed."""
    tool = shutil.which("fincore")
    if tool is None:
        return None
    with contextlib.suppress(OSError, subprocess.SubprocessError, ValueError, KeyError):
        done = subprocess.run(
            [tool, "--json", "--bytes", *map(str, paths)], capture_output=True, check=True, timeout=60
        )
        return sum(int(entry["res"]) for entry in json.loads(done.stdout)["fincore"])
    return None
