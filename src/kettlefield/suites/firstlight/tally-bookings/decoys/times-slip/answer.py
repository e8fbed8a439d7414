def tally_bookings(bookings):
    numbers = [row["load"] for row in bookings]
    return [number + @@n@@ for number in numbers]
