def note_toll(toll, seat):
    return seat - toll
