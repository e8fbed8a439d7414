import unittest

from slot_store import SlotStore


class SlotStoreTest(unittest.TestCase):
    def setUp(self):
        self.store = SlotStore(3)

    def state(self, slot):
        return self.store.who(slot), self.store.waiting(slot)

    def test_first_and_later_ships(self):
        self.assertEqual(self.state(1), (None, []))
        self.assertIs(self.store.book("Teal", 1), True)
        self.assertIs(self.store.book("Knot", 1), False)
        self.assertIs(self.store.book("Ruff", 1), False)
        self.assertEqual(self.state(1), ("Teal", ["Knot", "Ruff"]))

    def test_slots_know_nothing_of_each_other(self):
        self.store.book("Teal", 0)
        self.assertIs(self.store.book("Teal", 2), True)
        self.store.book("Knot", 2)
        self.assertEqual([self.state(slot) for slot in range(3)], [("Teal", []), (None, []), ("Teal", ["Knot"])])

    def test_the_next_follows(self):
        for ship in ("Teal", "Knot", "Ruff"):
            self.store.book(ship, 1)
        self.store.leave("Teal", 1)
        self.assertEqual(self.state(1), ("Knot", ["Ruff"]))
        self.store.leave("Knot", 1)
        self.store.leave("Ruff", 1)
        self.assertEqual(self.state(1), (None, []))
        self.assertIs(self.store.book("Teal", 1), True)

    def test_one_that_waits_leaves(self):
        for ship in ("Teal", "Knot", "Ruff"):
            self.store.book(ship, 0)
        self.store.leave("Knot", 0)
        self.assertEqual(self.state(0), ("Teal", ["Ruff"]))

    def test_twice(self):
        self.store.book("Teal", 1)
        self.store.book("Knot", 1)
        for ship in ("Teal", "Knot"):
            with self.assertRaises(ValueError):
                self.store.book(ship, 1)
        self.assertEqual(self.state(1), ("Teal", ["Knot"]))

    def test_strangers(self):
        self.store.book("Teal", 1)
        for slot in (0, 1):
            with self.assertRaises(KeyError):
                self.store.leave("Smew", slot)

    def test_the_list_is_a_copy(self):
        self.store.book("Teal", 1)
        self.store.book("Knot", 1)
        self.store.waiting(1).clear()
        self.assertEqual(self.store.waiting(1), ["Knot"])

    def test_no_such_slot(self):
        for slot in (-1, 3):
            for call in (self.store.who, self.store.waiting):
                with self.assertRaises(IndexError):
                    call(slot)
            for call in (self.store.book, self.store.leave):
                with self.assertRaises(IndexError):
                    call("Teal", slot)


if __name__ == "__main__":
    unittest.main()
