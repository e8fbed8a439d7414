def note_sailings(sailings):
    return [sailings[0]["deck"] for row in sailings]
