"""The sheet: one local page on which a person marks replies, pages by their pictures, and saves the marks."""

import base64
import json
import re
import secrets
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from markupsafe import Markup

from kettlefield.marking.blind_replies import Item
from kettlefield.marking.marks import standing_marks
from kettlefield.marking.scale import CATEGORIES, HIGHEST, LOWEST, SHEET_FORMAT, order_of
from kettlefield.record.store import Record
from kettlefield.views.templating import make_environment


def write_sheet(record: Record, items: Sequence[Item], marker: str, title: str, path: Path) -> int:
    """Write the sheet of one marker; how many replies it shows.

    It holds nothing that tells whose a reply is. It needs no network: pictures, style and script are inside,
    and nothing else may be loaded. What the marker gave before is in it already.

    Raises
    ------
    OSError
        The file cannot be written.
    """
    by_digest = {item.digest: item for item in items}
    known = standing_marks(record)
    order = order_of([(item.exercise, item.digest) for item in items], marker)
    groups: list[dict[str, Any]] = []
    for one in order:
        item = by_digest[one.item]
        if not groups or groups[-1]["exercise"] != (one.exercise, one.showing):
            groups.append(
                {
                    "exercise": (one.exercise, one.showing),
                    "item": item,
                    "again": one.showing > 1,
                    "meanings": meanings_of(item.guidance),
                    "replies": [],
                }
            )
        before = known.get((marker, one.item, one.showing))
        groups[-1]["replies"].append(
            {
                "key": f"{one.item}.{one.showing}",
                "files": item.files if not item.pictures else {},
                "pictures": {
                    width: "data:image/png;base64," + base64.b64encode(png).decode()
                    for width, png in item.pictures.items()
                },
                "unseen": item.kind == "page" and not item.pictures,
                "value": before.value if before is not None else None,
                "note": before.note if before is not None else "",
            }
        )
    # < cannot end the script that holds it
    facts = json.dumps({"format": SHEET_FORMAT, "marker": marker}).replace("<", "\\u003c")
    page = (
        make_environment()
        .get_template("sheet.html.j2")
        .render(
            title=title,
            marker=marker,
            groups=groups,
            total=len(order),
            nonce=secrets.token_hex(16),
            facts=Markup(facts),  # noqa: S704 - made here, from JSON
        )
    )
    path.write_text(page, encoding="utf-8", errors="backslashreplace")
    return len(order)


def meanings_of(guidance: str) -> list[tuple[int, str]]:
    """What each mark means, from 4 down, where the guidance has a line for every mark; else no words."""
    said = {int(match[1]): match[2].strip() for match in re.finditer(r"^([0-4]):(.*)$", guidance, re.MULTILINE)}
    whole = len(said) == CATEGORIES
    return [(mark, said[mark] if whole else "") for mark in range(HIGHEST, LOWEST - 1, -1)]
