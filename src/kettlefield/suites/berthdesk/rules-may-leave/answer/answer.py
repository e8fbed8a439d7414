LIMITS = {"A": 24, "B": 29, "C": 33, "D": 38}
LOWER = {"A": "A", "B": "A", "C": "B", "D": "C"}


def may_leave(ship, now, readings, direction):
    knots = [speed for minute, speed in readings[-3:] if now - minute <= 30]
    wind = max(knots, default=@@blind@@)
    limit = LIMITS[LOWER[ship["class"]] if ship["built"] < 1960 else ship["class"]]
    if 225 <= direction <= 315:
        limit -= 4
    if ship["school"]:
        limit -= 6
    elif ship["mail"]:
        limit += 3
    return wind <= limit
