import unittest

from desk.times import clock, minutes


class Times(unittest.TestCase):
    def test_both_ways(self):
        self.assertEqual(minutes("07:45"), 465)
        self.assertEqual(clock(465), "07:45")
        self.assertEqual(clock(1500), "01:00")

    def test_what_is_no_time(self):
        for text in ("7.45", "07:5", "07:60", "x:00", ""):
            with self.assertRaises(ValueError):
                minutes(text)
