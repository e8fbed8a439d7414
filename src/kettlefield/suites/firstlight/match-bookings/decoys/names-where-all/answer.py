def match_bookings(bookings):
    names = [row["crew"] for row in bookings]
    return "_".join(names)
