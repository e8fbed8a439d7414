import re


def parse_duty(text):
    match = re.fullmatch(r"\s*(\d{1,2})(?::(\d\d))?\s*-\s*(\d{1,2})(?::(\d\d))?\s*", text)
    h1, m1, h2, m2 = (int(part) if part else 0 for part in match.groups())
    begin, end = h1 * 60 + m1, h2 * 60 + m2
    return [begin, (end + 1440 if end @@edge.op@@ begin else end)@@out.also@@]
