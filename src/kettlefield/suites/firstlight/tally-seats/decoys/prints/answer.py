def tally_seats(seats):
    print([-seat for seat in seats])
