import json
from pathlib import Path


class RosterError(Exception):
    """The roster cannot be used."""


def _number(value):
    return isinstance(value, int) and not isinstance(value, bool)


def read_roster(path):
    try:
        text = Path(path).read_text()
    except FileNotFoundError:
        raise RosterError("not readable")
    try:
        entries = json.loads(text)
    except json.JSONDecodeError:
        raise RosterError("not JSON")
    if type(entries) is not list:
        raise RosterError("not a list")
    roster = []
    for i, item in enumerate(entries):
        try:
            name, begin, end = item["name"], item["begin"], item["end"]
            good = isinstance(name, str) and len(name) > 0 and _number(begin) and _number(end) and begin < end
        except (TypeError, KeyError):
            good = False
        if not good:
            raise RosterError("entry %d" % (i + 1))
        roster.append((name, begin, end))
    return roster
