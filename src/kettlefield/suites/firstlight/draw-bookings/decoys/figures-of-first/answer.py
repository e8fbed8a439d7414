def draw_bookings(bookings):
    numbers = [bookings[0]["weight"] for row in bookings]
    return sorted(numbers)
