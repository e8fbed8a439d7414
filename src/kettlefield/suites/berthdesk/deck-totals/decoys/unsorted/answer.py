def load_plan(vehicles):
    decks = {}
    for deck, metres in vehicles:
        decks[deck] = decks.get(deck, 0) + metres
    return [[deck, decks[deck]] for deck in decks]
