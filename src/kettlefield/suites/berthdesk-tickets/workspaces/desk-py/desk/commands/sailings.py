"""`sailings`: the day's sailings in the order in which they leave."""

from desk.loading import load_sailings
from desk.printing import columns
from desk.times import clock


def run(folder, words):
    """One line a sailing: number, vessel, time, berth."""
    sailings = sorted(load_sailings(folder), key=lambda sailing: (sailing.leaves, sailing.number))
    return columns([(s.number, s.vessel, clock(s.leaves), s.berth) for s in sailings])
