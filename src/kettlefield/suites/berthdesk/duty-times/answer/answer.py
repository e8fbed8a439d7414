def parse_duty(text):
    begin, end = text.split("-")
    return [minutes(begin), minutes(end)@@out.first@@]


def minutes(clock):
    hours, rest = clock.split(":")
    return int(hours) * 60 + int(rest)
