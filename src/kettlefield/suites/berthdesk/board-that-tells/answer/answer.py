class Board:
    def __init__(self, tell):
        self.calls = []
        self.tell = tell

    def meets(self, first, last):
        """The ship whose call a span meets, None when it meets none."""
        return next((ship for ship, begins, ends in self.calls if first < ends and begins < last), None)

    def add(self, ship, first, last):
        other = self.meets(first, last)
        if other is not None:
            self.tell(f"refused: {ship} meets {other}")
            return False
        self.calls.append((ship, first, last))
        self.tell(f"added: {ship}")
        return True

    def drop(self, ship):
        before = len(self.calls)
        self.calls = [call for call in self.calls if call[0] != ship]
        self.tell(f"dropped: {before - len(self.calls)}")


def replay(commands):
    lines = []
    board = Board(lines.append)
    for command in commands:
        getattr(board, command[0])(*command[1:])
    return lines
