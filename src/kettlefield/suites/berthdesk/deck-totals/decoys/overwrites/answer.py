def load_plan(vehicles):
    decks = {}
    for deck, metres in vehicles:
        decks[deck] = metres
    return [[deck, decks[deck]] for deck in sorted(decks)]
