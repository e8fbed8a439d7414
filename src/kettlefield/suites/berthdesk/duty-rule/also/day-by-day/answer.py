import datetime as dt
import re

WEEK = "Mon Tue Wed Thu Fri Sat Sun".split()
COUNT = "first second third fourth".split()


def date(text):
    if re.match(r"\d{4}-\d\d-\d\d\Z", text, re.ASCII) is None:
        raise ValueError(text)
    year, month, day = text.split("-")
    return dt.date(int(year), int(month), int(day))


def duty_days(rule, start, count):
    first = date(start)
    words, skip = rule, set()
    if " except " in words:
        words, _, days = words.partition(" except ")
        skip = set(map(date, days.split(", ")))
    head, on, tail = words.partition(" on ")
    parts = head.split(" ")
    if parts[0] != "every" or not 2 <= len(parts) <= 3:
        raise ValueError(rule)
    step = 1
    if len(parts) == 3:
        if not re.match(r"[1-9]\d*\Z", parts[1], re.ASCII) or parts[1] == "1":
            raise ValueError(rule)
        step = int(parts[1])
    unit = parts[-1]
    if unit not in (("days", "weeks", "months") if len(parts) == 3 else ("day", "week", "month")):
        raise ValueError(rule)
    unit = unit[:3]
    if (unit == "day") == bool(on):
        raise ValueError(rule)
    monday = first.toordinal() - first.weekday()

    if unit == "day":
        def fits(day):
            return (day - first).days % step == 0
    elif unit == "wee":
        names = tail.split(", ")
        if any(name not in WEEK for name in names) or len(names) != len(set(names)):
            raise ValueError(rule)

        def fits(day):
            weeks = (day.toordinal() - monday) // 7
            return weeks % step == 0 and WEEK[day.weekday()] in names
    else:
        number = re.match(r"day ([1-9]\d?)\Z", tail, re.ASCII)
        if number and int(number[1]) > 31:
            raise ValueError(rule)
        which, _, name = tail.partition(" ")
        if not number and (which not in COUNT + ["last"] or name not in WEEK):
            raise ValueError(rule)

        def fits(day):
            months = (day.year - first.year) * 12 + day.month - first.month
            if months % step:
                return False
            if number:
                return day.day == int(number[1])
            if WEEK[day.weekday()] != name:
                return False
            if which == "last":
                return (day + dt.timedelta(7)).month != day.month
            return (day.day - 1) // 7 == COUNT.index(which)

    found, day = [], first
    while len(found) < count and day.year < 2200:
        if fits(day) and day not in skip:
            found.append(str(day))
        day += dt.timedelta(1)
    return found
