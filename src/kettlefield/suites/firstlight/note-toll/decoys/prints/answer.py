def note_toll(toll, seat):
    print(toll - seat)
