import unittest

from desk.crew import short_rests
from desk.model import Duty


class Rests(unittest.TestCase):
    def test_short(self):
        duties = [Duty("Ash", 360, 840), Duty("Ash", 1320, 1800), Duty("Briar", 330, 810)]
        self.assertEqual(short_rests(duties), [("Ash", 480)])

    def test_duties_that_overlap_and_are_not_in_order(self):
        duties = [Duty("Cress", 900, 1500), Duty("Cress", 480, 910), Duty("Dale", 300, 700), Duty("Dale", 1300, 1700)]
        self.assertEqual(short_rests(duties), [("Cress", -10)])
