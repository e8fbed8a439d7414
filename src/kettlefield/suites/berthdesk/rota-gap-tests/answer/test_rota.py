import unittest

from rota import gaps


class GapsTest(unittest.TestCase):
    def test_between_and_around(self):
        self.assertEqual(gaps([[10, 20], [40, 50]], 0, 100), [[0, 10], [20, 40], [50, 100]])

    def test_any_order(self):
        self.assertEqual(gaps([[40, 50], [10, 20]], 0, 50), [[0, 10], [20, 40]])

    def test_touching(self):
        self.assertEqual(gaps([[0, 10], [10, 20]], 0, 20), [])

    def test_one_within_another(self):
        self.assertEqual(gaps([[0, 30], [5, 10]], 0, 40), [[30, 40]])

    def test_overlapping(self):
        self.assertEqual(gaps([[5, 30], [20, 35]], 0, 40), [[0, 5], [35, 40]])

    def test_outside_the_day(self):
        self.assertEqual(gaps([[-50, -10], [-5, 3], [8, 70], [80, 90]], 0, 10), [[3, 8]])
        self.assertEqual(gaps([[80, 90]], 0, 10), [[0, 10]])
        self.assertEqual(gaps([[-9, -1]], 0, 10), [[0, 10]])

    def test_no_shifts(self):
        self.assertEqual(gaps([], 5, 9), [[5, 9]])

    def test_the_list_stays(self):
        shifts = [[4, 6], [1, 2]]
        gaps(shifts, 0, 9)
        self.assertEqual(shifts, [[4, 6], [1, 2]])

    def test_no_length(self):
        for shifts, start, end in (([[3, 3]], 0, 9), ([[4, 3]], 0, 9), ([], 5, 5), ([], 6, 5)):
            with self.assertRaises(ValueError):
                gaps(shifts, start, end)


if __name__ == "__main__":
    unittest.main()
