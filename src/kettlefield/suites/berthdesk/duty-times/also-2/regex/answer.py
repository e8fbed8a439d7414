import re

DUTY = re.compile(r"\s*(\d{1,2})(?::(\d{2}))?\s*-\s*(\d{1,2})(?::(\d{2}))?\s*")


def parse_duty(text):
    h1, m1, h2, m2 = DUTY.fullmatch(text).groups("0")
    begin = int(h1) * 60 + int(m1)
    end = int(h2) * 60 + int(m2)
    return [begin, end if end > begin else end + 24 * 60]
