def tally_bookings(bookings):
    numbers = [bookings[0]["load"] for row in bookings]
    return [number * @@n@@ for number in numbers]
