"""`berths`: which vessel lies where, and who waits."""

from desk.berths import assign
from desk.loading import load_sailings


def run(folder, words):
    """One line a sailing in the order of departure."""
    return [f"{number}: {berth}" for number, berth in assign(load_sailings(folder))]
