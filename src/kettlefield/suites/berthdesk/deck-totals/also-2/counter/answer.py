from collections import Counter


def load_plan(vehicles):
    metres, number = Counter(), Counter()
    for deck, length in vehicles:
        metres[deck] += length
        number[deck] += 1
    return [[deck, metres[deck], number[deck]] for deck in sorted(number)]


def fullest(vehicles):
    rows = sorted(load_plan(vehicles)[::@@tie.step@@], key=lambda row: -@@room.n@@ * row[1])
    return rows[0][0] if rows else None
