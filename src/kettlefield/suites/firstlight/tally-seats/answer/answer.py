def tally_seats(seats):
    return [-seat for seat in seats]
