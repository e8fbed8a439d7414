from bisect import bisect_left


def nearest(berths, ships):
    found = []
    for ship in ships:
        at = bisect_left(berths, ship)
        found.append(berths[at])
    return found
