class Board:
    def __init__(self, tell):
        self._tell, self._list = tell, []

    def meets(self, first, last):
        for ship, (begins, ends) in self._list:
            if not (ends <= first or last <= begins):
                return ship
        return None

    def add(self, ship, first, last):
        found = self.meets(first, last)
        if found is None:
            self._list.append((ship, (first, last)))
        self._tell("added: " + ship if found is None else "refused: " + ship + " meets " + found)
        return found is None

    def drop(self, ship):
        kept = [entry for entry in self._list if entry[0] != ship]
        self._tell("dropped: %d" % (len(self._list) - len(kept)))
        self._list = kept


def replay(commands):
    said = []

    def tell(line):
        said.append(line)

    board = Board(tell)
    for name, *rest in commands:
        {"add": board.add, "drop": board.drop}[name](*rest)
    return said
