"""Times of day as minutes after midnight."""


def minutes(text):
    """The minutes of a text such as 07:45; ValueError when it is no time."""
    hours, colon, rest = text.partition(":")
    if colon != ":" or not (hours.isdigit() and rest.isdigit()) or len(rest) != 2:
        raise ValueError(f"not a time: {text}")
    value = int(hours) * 60 + int(rest)
    if int(rest) > 59 or value > 2 * 1440:
        raise ValueError(f"not a time: {text}")
    return value


def clock(value):
    """The text of a time; what is after midnight counts on from 00:00."""
    value %= 1440
    return f"{value // 60:02d}:{value % 60:02d}"
