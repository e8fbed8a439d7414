from collections import Counter


def load_plan(vehicles):
    metres, number = Counter(), Counter()
    for deck, length in vehicles:
        metres[deck] += length
        number[deck] += 1
    return sorted([deck, metres[deck], number[deck]] for deck in number)


def fullest(vehicles):
    best = None
    for deck, metres, _ in load_plan(vehicles):
        if best is None or metres > best[1]:
            best = (deck, metres)
    return best and best[0]
