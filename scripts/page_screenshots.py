"""PNGs of a report's parts, of a page's trial in it and of a marking sheet, 1280 by 800.

    python scripts/page_screenshots.py REPORT.html FOLDER [SHEET.html]

Needs Chromium and the package's extra `pages`.
"""

import shutil
import sys
from pathlib import Path

from playwright.sync_api import sync_playwright

PARTS = {"report": None, "report-correctness": "#correctness", "report-speed": "#speed", "looks": "#criteria figure"}
# the trial that a picture is of, with all that it is folded into
OPEN_AND_SHOW = """pictures => {
  for (let at = pictures; at; at = at.parentElement) if (at.tagName === "DETAILS") at.open = true;
  pictures.closest("details").scrollIntoView();
}"""

# the page whose picture holds most: some are blank
SHOW_A_PAGE = """() => {
  const size = article => article.querySelector("img").src.length;
  const [first] = [...document.querySelectorAll("article:has(img)")].sort((one, other) => size(other) - size(one));
  first.focus();
  first.scrollIntoView();
}"""


def main(report: Path, folder: Path, sheet: Path | None) -> None:
    """Take one picture a part, as a reader who follows its link sees it."""
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path=shutil.which("chromium"), args=["--no-sandbox"])
        page = browser.new_page(viewport={"width": 1280, "height": 800})
        for name, anchor in PARTS.items():
            page.goto(report.resolve().as_uri())
            if anchor is not None:
                page.locator(anchor).first.evaluate("section => section.scrollIntoView()")
            page.screenshot(path=folder / f"{name}.png")
        page.goto(report.resolve().as_uri())
        pictures = page.locator(".pictures")
        if pictures.count():
            pictures.last.evaluate(OPEN_AND_SHOW)
            page.screenshot(path=folder / "report-page-trial.png")
        if sheet is not None:
            page.goto(sheet.resolve().as_uri())
            page.keyboard.press("3")
            page.keyboard.press("n")
            page.evaluate(SHOW_A_PAGE)
            page.keyboard.press("2")
            page.screenshot(path=folder / "mark-sheet.png")
        browser.close()


if __name__ == "__main__":
    main(Path(sys.argv[1]), Path(sys.argv[2]), Path(sys.argv[3]) if len(sys.argv) > 3 else None)
