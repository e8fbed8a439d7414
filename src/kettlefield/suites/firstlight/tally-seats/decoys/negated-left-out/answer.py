def tally_seats(seats):
    return seats
