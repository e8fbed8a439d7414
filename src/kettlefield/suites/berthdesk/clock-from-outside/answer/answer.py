import datetime


def is_open(berth, now):
    """Whether a berth may be used at a time; winter nights are closed."""
    if berth["closed_until"] is not None and now.isoformat() < berth["closed_until"]:
        return False
    return not (now.month in (12, 1, 2) and now.hour >= 20)


def open_berths(berths, now):
    """Names of the berths that may be used at a time."""
    return [name for name, berth in berths.items() if is_open(berth, now)]


def status(berths, now=None):
    """One line for the board, with the time."""
    if now is None:
        now = datetime.datetime.now()
    names = ", ".join(open_berths(berths, now)) or "none"
    return f"{now:%H:%M} open: {names}"


def status_at(berths, moment):
    """The line of a moment given as text."""
    return status(berths, datetime.datetime.fromisoformat(moment))
