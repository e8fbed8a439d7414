"""PNGs of a report's parts, 1280 by 800.

    python scripts/page_screenshots.py REPORT.html FOLDER

Needs Chromium and the package's extra `pages`.
"""

import shutil
import sys
from pathlib import Path

from playwright.sync_api import sync_playwright

PARTS = {"report": None, "report-correctness": "#correctness", "report-speed": "#speed", "report-memory": "#memory"}


def main(report: Path, folder: Path) -> None:
    """Take one picture a part, as a reader who follows its link sees it."""
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path=shutil.which("chromium"), args=["--no-sandbox"])
        page = browser.new_page(viewport={"width": 1280, "height": 800})
        for name, anchor in PARTS.items():
            page.goto(report.resolve().as_uri())
            if anchor is not None:
                page.locator(anchor).evaluate("section => section.scrollIntoView()")
            page.screenshot(path=folder / f"{name}.png")
        browser.close()


if __name__ == "__main__":
    main(Path(sys.argv[1]), Path(sys.argv[2]))
