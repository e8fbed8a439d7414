from bisect import bisect_left


def nearest(berths, ships):
    found = []
    for ship in ships:
        at = bisect_left(berths, ship)
        near = berths[max(0, at - 1) : at + 1]
        found.append(min(near, key=lambda berth: abs(berth - ship)))
    return found
