"""Prompts of a wanted length: entries of a made-up berth log, never the same twice."""

import random

BERTHS = ("North 1", "North 2", "Spit", "Quarry Stage", "Gullholm", "Marsh Stage")
SHIPS = ("Teal", "Knot", "Ruff", "Smew", "Eider", "Turnstone")
DOINGS = ("cleared", "moored", "waits for the tide", "loads vehicles", "shifts berth", "reports fog")
WISH = "Write on: add entries of the same form, one a line, as many as you can.\n"


def berth_log(chars: int, rng: random.Random) -> str:
    """Log entries of at least so many characters, the wish to write on included.

    Parameters
    ----------
    chars : int
        Wanted length; the text is at most one entry longer, and never shorter than the wish.
    rng : random.Random
        What is in the entries.
    """
    lines, length = [], len(WISH)
    while length < chars:
        line = (
            f"{rng.randrange(24):02}:{rng.randrange(60):02} {rng.choice(SHIPS)} {rng.choice(DOINGS)} at "
            f"{rng.choice(BERTHS)}, {rng.randrange(90)} vehicles, {rng.randrange(400)} aboard\n"
        )
        lines.append(line)
        length += len(line)
    return "".join(lines) + WISH
