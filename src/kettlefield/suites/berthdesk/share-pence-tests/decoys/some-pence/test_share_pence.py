import unittest

from share_pence import share


class ShareTest(unittest.TestCase):
    def refused(self, pence, weights):
        with self.assertRaises(ValueError):
            share(pence, weights)

    def test_an_even_split(self):
        self.assertEqual(share(100, [1, 3]), [25, 75])

    def test_largest_rests(self):
        self.assertEqual(share(10, [3, 3, 1]), [4, 4, 2])
        self.assertEqual(share(100, [5, 1, 1]), [72, 14, 14])
        self.assertEqual(share(10, [4, 1, 1]), [7, 2, 1])
        self.assertEqual(share(11, [6, 2, 1]), [7, 3, 1])

    def test_the_sum(self):
        for pence in range(1, 60):
            self.assertEqual(sum(share(pence, [2, 3, 7, 7])), pence)

    def test_ties(self):
        self.assertEqual(share(1, [1, 1]), [1, 0])
        self.assertEqual(share(5, [2, 2, 2]), [2, 2, 1])

    def test_a_small_weight_with_a_large_rest(self):
        self.assertEqual(share(9, [1, 10]), [1, 8])

    def test_weights_stay(self):
        weights = [3, 1, 2]
        share(17, weights)
        self.assertEqual(weights, [3, 1, 2])

    def test_noughts_alone(self):
        self.refused(5, [0, 0])

    def test_no_weights(self):
        self.refused(5, [])

    def test_weights_below_nought(self):
        self.refused(5, [3, -1])

    def test_pence_below_nought(self):
        self.refused(-1, [1, 2])


if __name__ == "__main__":
    unittest.main()
