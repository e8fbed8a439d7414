def tally_seats(seats):
    return [abs(seat) for seat in seats]
