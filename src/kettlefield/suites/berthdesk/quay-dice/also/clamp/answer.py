HOME = @@home@@
LAST = @@last@@


def clamp(value):
    return min(max(value, 0), LAST)


def crane_stop(moves):
    bumps = 0
    place = HOME
    for step in moves:
        if not step:
            place = HOME
        else:
            wanted = place + step
            place = clamp(wanted)
            if place != wanted:
                bumps = bumps + 1
                if bumps and bumps % 3 == 0:
                    place = 1
    return [@@out.own@@]
