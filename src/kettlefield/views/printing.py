"""A report's page as PDF, printed by an installed Chromium without a window."""

import subprocess
import tempfile
from pathlib import Path

from kettlefield.core.errors import InputError, RigError
from kettlefield.languages.html import INSTALL_BROWSER, find_browser

PRINTED_WITHIN_S = 180.0


def print_pdf(page: Path) -> Path:
    """Print a page beside itself; the PDF's path. The page has no scripts and loads nothing.

    Raises
    ------
    InputError
        No browser is installed.
    RigError
        It prints nothing.
    """
    browser = find_browser()
    if browser is None:
        raise InputError("needs a browser, which is not installed", "--pdf", f"Install it: {INSTALL_BROWSER}.")
    path = page.with_suffix(".pdf")
    path.unlink(missing_ok=True)
    with tempfile.TemporaryDirectory() as profile:
        words = [
            *(browser, "--headless", "--no-sandbox", "--disable-gpu", f"--user-data-dir={profile}"),
            *("--no-pdf-header-footer", f"--print-to-pdf={path.resolve()}", page.resolve().as_uri()),
        ]
        try:
            done = subprocess.run(words, capture_output=True, timeout=PRINTED_WITHIN_S, check=False, text=True)
        except subprocess.TimeoutExpired:
            done = None
    if not path.exists():
        said = done.stderr.strip().splitlines()[-1:] if done is not None else ["it took too long"]
        raise RigError(f"the browser printed nothing ({''.join(said)})", str(path), "Print the page from a window.")
    return path
