"""`crew`: who works when, and whether the rest between two duties is long enough."""

from desk.crew import short_rests
from desk.loading import load_duties
from desk.times import clock


def run(folder, words):
    """One line a duty, then one a rest that is too short."""
    duties = sorted(load_duties(folder), key=lambda duty: (duty.name, duty.begins))
    lines = [f"{d.name} {clock(d.begins)}-{clock(d.ends)}" for d in duties]
    return lines + [f"short rest: {name}, {minutes} minutes" for name, minutes in short_rests(duties)]
