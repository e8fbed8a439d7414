"""`fare BOOKING`: what a booking costs."""

from desk.fares import fare_of
from desk.loading import load_bookings
from desk.printing import money


def run(folder, words):
    """One line: the booking and its fare."""
    if len(words) != 1:
        raise ValueError("fare takes one booking")
    bookings = {booking.number: booking for booking in load_bookings(folder)}
    if words[0] not in bookings:
        raise ValueError(f"no booking {words[0]}")
    booking = bookings[words[0]]
    stamps = f", {booking.stamps} stamps" if booking.stamps else ""
    return [f"{booking.number}: {money(fare_of(booking))}{stamps}"]
