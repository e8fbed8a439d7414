def trim_decks(decks):
    decks = [deck for deck in decks if "d" in deck]
    return [deck for deck in decks if len(deck) > 2]
