def sort_bookings(bookings):
    numbers = [row["fare"] for row in bookings]
    return numbers[:5]
