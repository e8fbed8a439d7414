import re


def parse_duty(text):
    match = re.fullmatch(r"\s*(\d{1,2})(?::(\d\d))?\s*-\s*(\d{1,2})(?::(\d\d))?\s*", text)
    h1, m1, h2, m2 = (int(part) if part else 0 for part in match.groups())
    begin, end = h1 * 60 + m1, h2 * 60 + m2
    return [begin, end if end > begin else end + 1440]
