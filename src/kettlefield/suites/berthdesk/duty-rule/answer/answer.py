import calendar
import datetime
import re

NAMES = ("Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun")
ORDINALS = {"first": 0, "second": 1, "third": 2, "fourth": 3, "last": -1}
END = datetime.date(2200, 1, 1)
RULE = re.compile(
    r"every (?:(?P<number>[1-9][0-9]*) )?(?P<unit>days?|weeks?|months?)(?: on (?P<on>.*?))?(?: except (?P<without>.*))?"
)


def read_day(text):
    if not re.fullmatch(r"[0-9]{4}-[0-9]{2}-[0-9]{2}", text):
        raise ValueError(f"not a day: {text}")
    return datetime.date.fromisoformat(text)


def read_weekdays(text):
    names = text.split(", ")
    if not set(names) <= set(NAMES) or len(set(names)) < len(names):
        raise ValueError(f"not weekdays: {text}")
    return sorted(map(NAMES.index, names))


def every_days(start, number):
    while True:
        yield start
        start += datetime.timedelta(number)


def every_weeks(start, number, weekdays):
    monday = start - datetime.timedelta(start.weekday())
    while True:
        yield from (monday + datetime.timedelta(weekday) for weekday in weekdays)
        monday += datetime.timedelta(7 * number)


def every_months(start, number, day_of):
    month = start.year * 12 + start.month - 1
    while True:
        day = day_of(month // 12, month % 12 + 1)
        if day is not None:
            yield day
        elif month // 12 >= END.year:
            return
        month += number


def read_month_day(text):
    if match := re.fullmatch(r"day ([1-9]|[12][0-9]|3[01])", text):
        number = int(match[1])
        return lambda year, month: (
            datetime.date(year, month, number) if number <= calendar.monthrange(year, month)[1] else None
        )
    ordinal, _, name = text.partition(" ")
    if ordinal not in ORDINALS or name not in NAMES:
        raise ValueError(f"not a day of a month: {text}")

    def day_of(year, month):
        first, length = calendar.monthrange(year, month)
        days = range(1 + (NAMES.index(name) - first) % 7, length + 1, 7)
        return datetime.date(year, month, days[ORDINALS[ordinal]])

    return day_of


def days_of(rule, start):
    match = RULE.fullmatch(rule)
    if match is None or match["number"] == "1" or (match["number"] is None) == match["unit"].endswith("s"):
        raise ValueError(f"not a rule: {rule}")
    number, unit, on = int(match["number"] or 1), match["unit"].rstrip("s"), match["on"]
    if (on is None) != (unit == "day"):
        raise ValueError(f"not a rule: {rule}")
    without = {read_day(text) for text in match["without"].split(", ")} if match["without"] is not None else set()
    if unit == "day":
        days = every_days(start, number)
    elif unit == "week":
        days = every_weeks(start, number, read_weekdays(on))
    else:
        days = every_months(start, number, read_month_day(on))
    return days, without


def duty_days(rule, start, count):
    begin = read_day(start)
    days, without = days_of(rule, begin)
    found = []
    for day in days:
        if day >= END or len(found) == count:
            break
        if day >= begin and day not in without:
            found.append(day.isoformat())
    return found
