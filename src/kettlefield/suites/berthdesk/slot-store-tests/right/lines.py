class SlotStore:
    def __init__(self, slots):
        self._slots = slots
        self._lines = [[] for _ in range(slots)]

    def _line(self, slot):
        if not 0 <= slot < self._slots:
            raise IndexError(slot)
        return self._lines[slot]

    def book(self, ship, slot):
        line = self._line(slot)
        if ship in line:
            raise ValueError(ship)
        line.append(ship)
        return len(line) == 1

    def leave(self, ship, slot):
        line = self._line(slot)
        if ship not in line:
            raise KeyError(ship)
        line.remove(ship)

    def who(self, slot):
        line = self._line(slot)
        return line[0] if line else None

    def waiting(self, slot):
        return self._line(slot)[1:]
