import contextlib
import io
import unittest

from desk.cli import main


def said(*words):
    out = io.StringIO()
    with contextlib.redirect_stdout(out), contextlib.redirect_stderr(out):
        status = main(list(words))
    return status, out.getvalue()


class Commands(unittest.TestCase):
    def test_sailings(self):
        status, text = said("sailings")
        self.assertEqual(status, 0)
        self.assertEqual(text.splitlines()[0], "S11  Curlew  07:30  North")

    def test_fare(self):
        self.assertEqual(said("fare", "B201"), (0, "B201: 25.50, 10 stamps\n"))
        self.assertEqual(said("fare", "B999"), (2, "error: no booking B999\n"))

    def test_unknown(self):
        self.assertEqual(said("tides")[0], 2)
