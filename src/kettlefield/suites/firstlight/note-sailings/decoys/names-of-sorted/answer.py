def note_sailings(sailings):
    return sorted(row["deck"] for row in sailings)
