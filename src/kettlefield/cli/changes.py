"""What differs between two states, as a table and as JSON."""

from collections.abc import Mapping, Sequence

from rich.console import Console

from kettlefield.cli.console import make_table, print_table, safe
from kettlefield.core.plaintext import shorten
from kettlefield.core.values import Change

WIDEST = 72  # characters of a value: a SHA-256 is shown whole


def changes_json(changes: Sequence[Change]) -> list[dict[str, str]]:
    """Changes as the JSON contract writes them."""
    return [{"what": change.what, "then": change.then, "now": change.now} for change in changes]


def print_changes(console: Console, found: Mapping[str, Sequence[Change]]) -> bool:
    """Print the changes of every candidate, what all share once; whether there was any."""
    holders: dict[Change, list[str]] = {}
    for name, changes in found.items():
        for change in changes:
            holders.setdefault(change, []).append(name)
    table = make_table("changed", "then", "now", "of")
    for change, names in holders.items():
        of = "all" if len(names) == len(found) else ", ".join(names)
        table.add_row(safe(change.what), *(safe(shorten(text, WIDEST)) for text in (change.then, change.now)), safe(of))
    if holders:
        print_table(console, table)
    return bool(holders)
