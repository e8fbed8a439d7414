def note_toll(toll, seat):
    return toll - seat
