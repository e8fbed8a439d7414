
import datetime


def is_open(berth):
    """Whether a berth may be used now; winter nights are closed."""
    now = datetime.datetime.now()
    if berth["closed_until"] is not None and now.isoformat() < berth["closed_until"]:
        return False
    return not (now.month in (12, 1, 2) and now.hour >= 20)


def open_berths(berths):
    """Names of the berths that may be used now."""
    return [name for name, berth in berths.items() if is_open(berth)]


def status(berths):
    """One line for the board, with the time."""
    now = datetime.datetime.now()
    names = ", ".join(open_berths(berths)) or "none"
    return f"{now:%H:%M} open: {names}"
