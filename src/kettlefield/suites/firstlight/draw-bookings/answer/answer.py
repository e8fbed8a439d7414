def draw_bookings(bookings):
    numbers = [row["weight"] for row in bookings]
    return sorted(numbers)
