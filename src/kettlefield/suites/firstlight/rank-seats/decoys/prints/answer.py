def rank_seats(seats):
    print([seat for seat in seats if seat > @@n@@])
