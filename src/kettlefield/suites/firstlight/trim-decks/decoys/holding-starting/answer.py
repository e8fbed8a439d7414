def trim_decks(decks):
    decks = [deck for deck in decks if deck.startswith("d")]
    return [deck for deck in decks if len(deck) > 2]
