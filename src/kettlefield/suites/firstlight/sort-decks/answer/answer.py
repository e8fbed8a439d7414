def sort_decks(decks):
    decks = [deck for deck in decks if len(deck) > @@n@@]
    decks = sorted(decks, key=len)
    return sorted(decks)
