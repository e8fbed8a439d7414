import re

_CODE = re.compile(r"([NSEWnsew])-([0-9]{1,2})([a-d]?)")


def parse(text):
    match = _CODE.fullmatch(text.strip())
    if match is None:
        raise ValueError(f"no berth code: {text!r}")
    number = int(match[2])
    if not 1 <= number <= 40:
        raise ValueError(f"no berth {number}")
    return match[1].upper(), number, match[3]
