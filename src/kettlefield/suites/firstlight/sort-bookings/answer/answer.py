def sort_bookings(bookings):
    numbers = [row["fare"] for row in bookings if row["port"] == "@@word@@"]
    return numbers[:5]
