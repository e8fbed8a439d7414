import unittest

from desk.crew import short_rests
from desk.model import Duty


class Rests(unittest.TestCase):
    def test_short(self):
        duties = [Duty("Ash", 360, 840), Duty("Ash", 1320, 1800), Duty("Briar", 330, 810)]
        self.assertEqual(short_rests(duties), [("Ash", 480)])
