"""What a booking costs, in pence."""

from desk.loyalty import stamps_off

ADULT, CHILD = 640, 320
VEHICLES = {"none": 0, "car": 1450, "van": 2100}
GROUP_FROM = 6  # travellers, from which on a tenth is taken off the travellers' part


def fare_of(booking):
    """The fare of a booking; a group pays a tenth less for its travellers, rounded down to whole pence."""
    travellers = booking.adults * ADULT + booking.children * CHILD
    if booking.adults + booking.children >= GROUP_FROM:
        travellers -= -(-travellers // 10)
    if booking.vehicle not in VEHICLES:
        raise ValueError(f"no such vehicle: {booking.vehicle}")
    return stamps_off(travellers + VEHICLES[booking.vehicle], booking.stamps)
