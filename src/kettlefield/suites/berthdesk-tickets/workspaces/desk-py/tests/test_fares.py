import unittest

from desk.fares import fare_of
from desk.model import Booking


def booking(adults=1, children=0, vehicle="none", stamps=0):
    return Booking("B1", "S11", adults, children, vehicle, stamps)


class Fares(unittest.TestCase):
    def test_travellers_and_vehicle(self):
        self.assertEqual(fare_of(booking(2, 1, "car")), 3050)

    def test_group(self):
        self.assertEqual(fare_of(booking(5, 2)), 3456)

    def test_a_full_card(self):
        self.assertEqual(fare_of(booking(stamps=10)), 140)
        self.assertEqual(fare_of(booking(children=0, adults=0, stamps=11)), 0)
