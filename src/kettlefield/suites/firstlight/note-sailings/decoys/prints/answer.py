def note_sailings(sailings):
    print([row["deck"] for row in sailings])
