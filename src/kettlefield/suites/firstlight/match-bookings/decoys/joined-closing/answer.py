def match_bookings(bookings):
    names = [row["crew"] for row in bookings if row["wait"] > @@n@@]
    return "_".join(names) + "_"
