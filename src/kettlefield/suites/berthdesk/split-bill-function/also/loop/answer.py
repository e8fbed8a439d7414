def pounds(pence):
    whole, rest = divmod(pence, 100)
    return "%d.%02d" % (whole, rest)


def call_pence(metres, minutes, is_house):
    hours = minutes // 60 + (minutes % 60 > 0)
    pence = (20 if metres < 20 else metres) * hours * 18
    if is_house:
        return pence * 3 // 4
    return pence


def discount_of(total):
    if total <= 100000:
        return 0
    return total * 4 // 100


def bill(calls, is_house):
    lines, total = [], 0
    for ship, metres, minutes in calls:
        pence = call_pence(metres, minutes, is_house)
        lines += [ship + ": " + pounds(pence)]
        total += pence
    off = discount_of(total)
    lines += ["discount: -" + pounds(off)] if off else []
    return lines + ["total: " + pounds(total - off)], total - off
