def parse_duty(text):
    begin, _, end = text.partition("-")
    start, stop = minutes(begin.strip()), minutes(end.strip())
    if stop @@edge.op@@ start:
        stop += 1440
    return [start, stop@@out.less@@]


def minutes(clock):
    hours, _, rest = clock.partition(":")
    return int(hours) * 60 + int(rest or 0)
