"""One person's sitting in the terminal: reply after reply, a mark for each."""

import sys
from collections.abc import Sequence

from rich.console import Console

from kettlefield.marking.blind_replies import Item
from kettlefield.marking.marks import standing_marks
from kettlefield.marking.scale import CATEGORIES, Showing, order_of
from kettlefield.record.entries import MarkEntry
from kettlefield.record.store import Record
from kettlefield.views.terminal import make_console, safe

KEYS = "0-4 and a note if you like, s skip, u undo, g guidance, q stop"
MOST_NOTE = 2000


def sit(record: Record, items: Sequence[Item], marker: str, title: str) -> None:
    """Show what is left to a marker, one reply at a time, and keep each mark as it is given."""
    console = make_console()
    pages = sum(item.kind == "page" for item in items)
    words = {item.digest: item for item in items if item.kind != "page"}
    sitting = _Sitting(record, words, marker)
    console.print(safe(f"{title}: marking by {marker}", "bold"))
    if pages:
        console.print(f"{pages} pages are judged by their pictures: mark them on a sheet (--sheet OUT)", style="dim")
    console.print(f"{len(sitting.order)} replies, {len(sitting.left)} left. {KEYS}.")
    sitting.run(console)
    console.print(f"{len(sitting.order) - len(sitting.left)} of {len(sitting.order)} are marked", style="bold")
    if sitting.left:
        console.print("The same command resumes.")


class _Sitting:
    """What is left, and what was done in this sitting."""

    def __init__(self, record: Record, items: dict[str, Item], marker: str) -> None:
        self._record, self._items, self._marker = record, items, marker
        self.order = order_of(((item.exercise, item.digest) for item in items.values()), marker)
        known = standing_marks(record)
        self.left = [one for one in self.order if (marker, one.item, one.showing) not in known]
        self._given: list[tuple[int, Showing]] = []  # place it was taken from, for undo

    def run(self, console: Console) -> None:
        """Until all is marked, the input ends or the marker stops."""
        at, shown = 0, ""
        fresh = True
        while at < len(self.left):
            one = self.left[at]
            item = self._items[one.item]
            if fresh:
                self._show(console, item, at, with_task=item.exercise != shown)
                shown = item.exercise
            fresh = True
            word, _, note = self._ask(console).partition(" ")
            if word in {"q", ""}:
                return
            if word == "s":
                at += 1
            elif word == "u":
                if self._given:
                    at = self._undo()
                else:
                    console.print("nothing was marked in this sitting")
            elif word == "g":
                console.print(safe(item.guidance))
                fresh = False
            elif word.isdigit() and len(word) == 1 and int(word) < CATEGORIES:
                self._give(at, int(word), note.strip()[:MOST_NOTE])
            else:
                console.print(f'"{safe(word).plain}" is none of {KEYS}')
                fresh = False

    def _ask(self, console: Console) -> str:
        console.print("mark> ", end="")
        line = sys.stdin.readline()
        if not line:  # the end of the input stops as q does
            console.print()
            return "q"
        return line.strip() or "?"

    def _give(self, at: int, value: int | None, note: str) -> None:
        one = self.left[at]
        self._save(one, value, note)
        self._given.append((at, one))
        del self.left[at]

    def _undo(self) -> int:
        """Take the last mark of this sitting back; where its reply is now."""
        at, one = self._given.pop()
        self._save(one, None, "")
        self.left.insert(at, one)
        return at

    def _save(self, one: Showing, value: int | None, note: str) -> None:
        self._record.save_marks(
            [
                MarkEntry(
                    marker=self._marker,
                    exercise_id=one.exercise,
                    item=one.item,
                    showing=one.showing,
                    value=value,
                    note=note,
                    via="terminal",
                )
            ]
        )

    def _show(self, console: Console, item: Item, at: int, *, with_task: bool) -> None:
        if with_task:
            console.rule(safe(item.title, "bold"), align="left")
            console.print(safe(item.prompt.strip()), soft_wrap=True)
            console.print(safe(f"\n{item.guidance}", "cyan"))
        console.print(safe(f"\n--- a reply, {len(self.left) - at} to go ", "bold cyan"))
        for name, text in item.files.items():
            if len(item.files) > 1:
                console.print(safe(f"--- {name}", "cyan"))
            console.print(safe(text.rstrip("\n")), soft_wrap=True)
