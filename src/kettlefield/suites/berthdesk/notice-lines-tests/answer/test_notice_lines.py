import unittest

from notice_lines import lines


class LinesTest(unittest.TestCase):
    def test_fills_each_line(self):
        self.assertEqual(lines("no boat to Skerry today", 10), ["no boat to", "Skerry", "today"])
        self.assertEqual(lines("aa bb cc", 5), ["aa bb", "cc"])
        self.assertEqual(lines("aa bb cc", 4), ["aa", "bb", "cc"])
        self.assertEqual(lines("aa bb cc", 8), ["aa bb cc"])

    def test_one_more_is_too_much(self):
        self.assertEqual(lines("aaa bbb", 6), ["aaa", "bbb"])

    def test_white_space(self):
        self.assertEqual(lines("  a \n\n b   c ", 9), ["a b c"])

    def test_a_long_word_stands_alone(self):
        self.assertEqual(lines("go harbourmaster go", 5), ["go", "harbourmaster", "go"])
        self.assertEqual(lines("harbourmaster", 3), ["harbourmaster"])

    def test_no_words(self):
        self.assertEqual(lines("", 5), [])
        self.assertEqual(lines(" \n ", 5), [])

    def test_narrow(self):
        self.assertEqual(lines("a b", 1), ["a", "b"])
        for width in (0, -1):
            with self.assertRaises(ValueError):
                lines("a b", width)


if __name__ == "__main__":
    unittest.main()
