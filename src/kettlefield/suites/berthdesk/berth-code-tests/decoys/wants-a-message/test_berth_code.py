import unittest

from berth_code import parse


class ParseTest(unittest.TestCase):
    def refused(self, *texts):
        for text in texts:
            with self.subTest(text), self.assertRaisesRegex(ValueError, "no berth"):
                parse(text)

    def test_a_code_with_a_part(self):
        self.assertEqual(parse("N-14b"), ("N", 14, "b"))

    def test_each_side_and_part(self):
        for side in "NSEW":
            for part in "abcd":
                self.assertEqual(parse(f"{side}-7{part}"), (side, 7, part))

    def test_small_sides(self):
        for side in "nsew":
            self.assertEqual(parse(f"{side}-7"), (side.upper(), 7, ""))

    def test_leading_nought(self):
        self.assertEqual(parse("S-04"), ("S", 4, ""))

    def test_without_a_part(self):
        self.assertEqual(parse("E-12"), ("E", 12, ""))

    def test_ends_of_the_numbers(self):
        self.assertEqual(parse("W-1"), ("W", 1, ""))
        self.assertEqual(parse("W-40d"), ("W", 40, "d"))
        self.refused("W-0", "W-00", "W-41", "W-99")

    def test_digits(self):
        self.refused("N-004", "N-", "N-a")

    def test_parts(self):
        self.refused("N-4e", "N-4A", "N-4D", "N-4ab")

    def test_white_space_around(self):
        self.assertEqual(parse("  N-4a\n"), ("N", 4, "a"))

    def test_white_space_inside(self):
        self.refused("N -4", "N- 4", "N-4 a", "N-1 4")

    def test_anything_else(self):
        self.refused("", "X-4", "N4", "NS-4", "N-4a!", "-4", "N--4")


if __name__ == "__main__":
    unittest.main()
