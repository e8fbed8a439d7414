def rank_seats(seats):
    return [seat for seat in seats if not (seat > @@n@@)]
