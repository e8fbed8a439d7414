import sqlite3
import unittest

from manifest.migrating import migrate


class Migrating(unittest.TestCase):
    def test_each_once(self):
        connection = sqlite3.connect(":memory:")
        self.addCleanup(connection.close)
        self.assertEqual(migrate(connection)[:2], ["001_passengers", "002_index"])
        self.assertEqual(migrate(connection), [])
