def load_plan(vehicles):
    decks, counts = {}, {}
    for deck, metres in vehicles:
        decks[deck] = decks.get(deck, 0) + metres
        counts[deck] = counts.get(deck, 0) + 1
    return [[deck, decks[deck], counts[deck]] for deck in sorted(decks)]


def fullest(vehicles):
    plan = load_plan(vehicles)
    if not plan:
        return None
    return @@room.fn@@(plan[::@@tie.step@@], key=lambda row: row[1])[0]
