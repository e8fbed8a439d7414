"""Reads the day's files. A day is opened once, and closed when it is no longer needed."""

import csv
from pathlib import Path

from desk.model import Booking, Duty, Sailing
from desk.times import minutes


class Day:
    """The files of one day: `with Day.open(folder) as day: day.sailings()`."""

    opened = 0

    def __init__(self, folder):
        self._folder = Path(folder)
        self._is_open = True
        Day.opened += 1

    @classmethod
    def open(cls, folder):
        """The day in a folder."""
        return cls(folder)

    def __enter__(self):
        return self

    def __exit__(self, *_):
        self._is_open = False

    def sailings(self):
        """Every sailing by its number."""
        return {
            row["number"]: Sailing(
                row["number"], row["vessel"], minutes(row["leaves"]), row["berth"], int(row["length"])
            )
            for row in self._rows("sailings.csv")
        }

    def bookings(self):
        """Every booking by its number."""
        return {
            row["number"]: Booking(
                row["number"],
                row["sailing"],
                int(row["adults"]),
                int(row["children"]),
                row["vehicle"],
                int(row["stamps"] or 0),
            )
            for row in self._rows("bookings.csv")
        }

    def duties(self):
        """An iterator over the duties, in the order of the file; it ends with the day."""
        for row in self._rows("crew.csv"):
            yield Duty(row["name"], minutes(row["begins"]), minutes(row["ends"]))

    def _rows(self, name):
        with open(self._folder / name, newline="", encoding="utf-8") as file:
            for row in csv.DictReader(file):
                if not self._is_open:
                    raise RuntimeError("the day is closed")
                yield row
