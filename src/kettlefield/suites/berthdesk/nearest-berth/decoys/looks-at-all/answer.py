from bisect import bisect_left


def nearest(berths, ships):
    found = []
    for ship in ships:
        near = berths
        found.append(min(near, key=lambda berth: abs(berth - ship)))
    return found
