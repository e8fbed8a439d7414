def tally_bookings(bookings):
    numbers = sorted(row["load"] for row in bookings)
    return [number * @@n@@ for number in numbers]
