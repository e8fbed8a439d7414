import json


class RosterError(Exception):
    """What is wrong with a roster."""


def _whole(value):
    return isinstance(value, int) and not isinstance(value, bool)


def read_roster(path):
    try:
        with open(path, encoding="utf-8") as source:
            text = source.read()
    except OSError:
        raise RosterError("not readable")
    try:
        data = json.loads(text)
    except json.JSONDecodeError:
        raise RosterError("not JSON")
    if type(data) is not list:
        raise RosterError("not a list")
    result = []
    for i in range(len(data)):
        try:
            name, begin, end = data[i]["name"], data[i]["begin"], data[i]["end"]
        except (TypeError, KeyError):
            raise RosterError(f"entry {i + 1}")
        if not isinstance(name, str) or not name or not _whole(begin) or not _whole(end) or begin >= end:
            raise RosterError(f"entry {i + 1}")
        result.append((name, begin, end))
    return result
