def note_sailings(sailings):
    return [row["deck"] for row in sailings]
