def may_leave(ship, now, readings, direction):
    classes = "ABCD"
    place = classes.index(ship["class"])
    if ship["built"] < 1960:
        place = max(0, place - 1)
    limit = (24, 29, 33, 38)[place]
    limit -= 4 * (225 <= direction <= 315)
    limit += -6 if ship["school"] else 3 * bool(ship["mail"])
    wind = @@blind@@
    fresh = [pair[1] for pair in list(readings)[-3:] if pair[0] >= now - 30]
    if fresh:
        wind = max(fresh)
    return limit >= wind
