class SlotStore:
    def __init__(self, slots):
        self._slots = slots
        self._lines = [[] for _ in range(slots)]
        self._kept = [[] for _ in range(slots)]

    def _line(self, slot):
        if not 0 <= slot < self._slots:
            raise IndexError(slot)
        return self._lines[slot]

    def book(self, ship, slot):
        line = self._line(slot)
        if ship in line:
            raise ValueError(ship)
        line.append(ship)
        self._kept[slot][:] = line[1:]
        return len(line) == 1

    def leave(self, ship, slot):
        line = self._line(slot)
        if ship not in line:
            raise KeyError(ship)
        first = self._kept[slot]
        line[:] = line[:1] + first
        line.remove(ship)
        self._kept[slot][:] = line[1:]

    def who(self, slot):
        line = self._line(slot)
        return line[0] if line else None

    def waiting(self, slot):
        self._line(slot)
        return self._kept[slot]
