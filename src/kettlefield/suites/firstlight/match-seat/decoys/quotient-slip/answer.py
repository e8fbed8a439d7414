def match_seat(seat):
    return seat % 5
