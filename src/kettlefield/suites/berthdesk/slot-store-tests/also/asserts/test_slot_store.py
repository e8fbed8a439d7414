from slot_store import SlotStore


def refused(kind, call, *values):
    try:
        call(*values)
    except kind:
        return True
    return False


s = SlotStore(2)
assert s.who(1) is None and s.waiting(1) == []
assert s.book("a", 1) is True and s.book("a", 0) is True
assert s.book("b", 1) is False and s.book("c", 1) is False and s.book("d", 1) is False
assert s.waiting(0) == [] and s.who(0) == "a"
assert refused(ValueError, s.book, "a", 1) and refused(ValueError, s.book, "c", 1)
assert s.waiting(1) == ["b", "c", "d"]
s.waiting(1).append("e")
assert s.waiting(1) == ["b", "c", "d"]
s.leave("c", 1)
assert s.who(1) == "a" and s.waiting(1) == ["b", "d"]
s.leave("a", 1)
assert s.who(1) == "b" and s.waiting(1) == ["d"]
s.leave("b", 1)
s.leave("d", 1)
assert s.who(1) is None and s.who(0) == "a"
assert refused(KeyError, s.leave, "a", 1) and refused(KeyError, s.leave, "z", 0)
for slot in (-1, 2):
    assert refused(IndexError, s.who, slot) and refused(IndexError, s.waiting, slot)
    assert refused(IndexError, s.book, "q", slot) and refused(IndexError, s.leave, "a", slot)
