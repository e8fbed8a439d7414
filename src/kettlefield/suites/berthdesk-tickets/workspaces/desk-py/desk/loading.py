"""Reads the day's files; every file is a CSV with a heading."""

import csv
from pathlib import Path

from desk.model import Booking, Duty, Sailing
from desk.times import minutes


def rows(folder, name):
    """The rows of a file as dictionaries."""
    with open(Path(folder) / name, newline="", encoding="utf-8") as file:
        return list(csv.DictReader(file))


def load_sailings(folder):
    """Every sailing, in the order of the file."""
    return [
        Sailing(row["number"], row["vessel"], minutes(row["leaves"]), row["berth"], int(row["length"]))
        for row in rows(folder, "sailings.csv")
    ]


def load_bookings(folder):
    """Every booking, in the order of the file."""
    return [
        Booking(
            row["number"],
            row["sailing"],
            int(row["adults"]),
            int(row["children"]),
            row["vehicle"],
            int(row["stamps"] or 0),
        )
        for row in rows(folder, "bookings.csv")
    ]


def load_duties(folder):
    """Every duty, in the order of the file."""
    return [Duty(row["name"], minutes(row["begins"]), minutes(row["ends"])) for row in rows(folder, "crew.csv")]
