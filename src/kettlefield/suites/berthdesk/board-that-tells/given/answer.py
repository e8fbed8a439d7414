
class Board:
    def __init__(self):
        self.calls = []

    def add(self, ship, first, last):
        for other, begins, ends in self.calls:
            if first < ends and begins < last:
                print(f"refused: {ship} meets {other}")
                return False
        self.calls.append((ship, first, last))
        print(f"added: {ship}")
        return True

    def drop(self, ship):
        before = len(self.calls)
        self.calls = [call for call in self.calls if call[0] != ship]
        print(f"dropped: {before - len(self.calls)}")


def replay(commands):
    import contextlib
    import io
    board = Board()
    out = io.StringIO()
    with contextlib.redirect_stdout(out):
        for command in commands:
            getattr(board, command[0])(*command[1:])
    return out.getvalue().splitlines()
