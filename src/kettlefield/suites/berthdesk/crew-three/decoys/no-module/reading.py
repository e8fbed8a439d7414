import json


class RosterError(Exception):
    pass


def read_roster(path):
    try:
        with open(path) as file:
            data = json.load(file)
    except OSError as err:
        raise RosterError("not readable") from err
    except ValueError as err:
        raise RosterError("not JSON") from err
    if not isinstance(data, list):
        raise RosterError("not a list")
    duties = []
    for number, entry in enumerate(data, 1):
        if not is_good(entry):
            raise RosterError(f"entry {number}")
        duties.append((entry["name"], entry["begin"], entry["end"]))
    return duties


def is_good(entry):
    if not isinstance(entry, dict):
        return False
    name, begin, end = (entry.get(key) for key in ("name", "begin", "end"))
    return isinstance(name, str) and name != "" and type(begin) is int and type(end) is int and begin < end
