"""Pages: HTML, opened in Chromium, and the style sheets that they name."""

import re
import shutil
from pathlib import Path

from kettlefield.core.extraction.syntax import PAGE
from kettlefield.languages.language import Language, Missing, Toolchain
from kettlefield.languages.packages import find_packages
from kettlefield.languages.probing import ask, outside_usr

# the program that draws nothing but pages starts sooner and in less memory than the one with a window
_BROWSERS = (
    "/usr/lib/chromium/chromium-headless-shell",
    "chromium-headless-shell",
    "/usr/lib/chromium/chromium",
    "chromium",
)
INSTALL_BROWSER = "apt-get install chromium"
DRIVER = "playwright"  # leads the browser that pages are opened in


def find_browser() -> str | None:
    """The browser's program, itself: what is on the path may be a script around it that reads the user's settings."""
    return next(filter(None, map(shutil.which, _BROWSERS)), None)


def _probe() -> Toolchain | Missing:
    program_on_path = find_browser()
    match = re.search(r"(\d+(?:\.\d+){2,3})", ask([program_on_path, "--version"])) if program_on_path else None
    if program_on_path is None or match is None:
        return Missing(language=PAGE, remedy=INSTALL_BROWSER)
    if isinstance(find_packages((DRIVER,)), str):
        return Missing(language=PAGE, remedy="pip install 'kettlefield[pages]'")
    program = Path(program_on_path).resolve()
    fonts = tuple(str(folder) for folder in (Path("/etc/fonts"),) if folder.is_dir())
    return Toolchain(
        language=PAGE, program=str(program), version=match[1], mounts=(*outside_usr(program.parent), *fonts)
    )


HTML = Language(
    name=PAGE,
    title="HTML",
    suffix=".html",
    order=90,
    aliases=frozenset({"htm", "xhtml", "html5"}),
    runs=False,
    probe=_probe,
    environment="Chromium {version}, no network, nothing outside the page's own files",
)
CSS = Language(name="css", title="CSS", suffix=".css", order=95, aliases=frozenset({"css3"}), runs=False)
