import sqlite3
import unittest

from manifest import passengers
from manifest.migrating import migrate


class Passengers(unittest.TestCase):
    def setUp(self):
        self.connection = sqlite3.connect(":memory:")
        migrate(self.connection)
        self.addCleanup(self.connection.close)

    def test_in_the_order_of_boarding(self):
        for name in ("Rowan", "Hazel"):
            passengers.board(self.connection, "S11", name)
        self.assertEqual(passengers.of_sailing(self.connection, "S11"), ["Rowan", "Hazel"])
        self.assertEqual(passengers.counts(self.connection), [("S11", 2)])
