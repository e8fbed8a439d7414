import unittest

from quay_bill import bill


class BillTest(unittest.TestCase):
    def test_a_plain_bill(self):
        self.assertEqual(bill(10, 3, False), 4500)

    def test_begun_metres(self):
        self.assertEqual(bill(7.2, 1, False), 1200)
        self.assertEqual(bill(8, 1, False), 1200)

    def test_least_metres(self):
        self.assertEqual(bill(2, 1, False), 900)
        self.assertEqual(bill(5, 1, False), 900)

    def test_season(self):
        self.assertEqual(bill(8, 1, True), 1500)

    def test_rounding(self):
        self.assertEqual(bill(7, 1, True), 1312)
        self.assertEqual(bill(7, 2, True), 2625)

    def test_seventh_nights(self):
        self.assertEqual(bill(10, 6, False), 9000)
        self.assertEqual(bill(10, 7, False), 9000)
        self.assertEqual(bill(10, 8, False), 10500)
        self.assertEqual(bill(10, 15, False), 19500)

    def test_no_nights(self):
        self.assertEqual(bill(10, 0, False), 0)
        self.assertEqual(bill(10, 0, True), 0)

    def test_wrong_metres(self):
        for metres in (0, -1, -0.5):
            with self.assertRaises(ValueError):
                bill(metres, 1, False)

    def test_wrong_nights(self):
        with self.assertRaises(ValueError):
            bill(10, -1, False)


if __name__ == "__main__":
    unittest.main()
