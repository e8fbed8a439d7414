import unittest

from desk.berths import assign
from desk.model import Sailing


class Berths(unittest.TestCase):
    def test_a_berth_that_is_held(self):
        sailings = [Sailing("S2", "Teal", 500, "South", 40), Sailing("S1", "Dunlin", 480, "South", 40)]
        self.assertEqual(assign(sailings), [("S1", "South"), ("S2", "waits")])

    def test_too_long(self):
        self.assertEqual(assign([Sailing("S1", "Curlew", 480, "Slip", 31)]), [("S1", "waits")])
