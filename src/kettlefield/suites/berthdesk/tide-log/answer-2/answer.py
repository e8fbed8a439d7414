class TideLog:
    def __init__(self):
        self.heights = []

    def add(self, height):
        self.heights.append(height)
        return len(self.heights)

    def range(self):
        if not self.heights:
            return 0
        return max(self.heights) - min(self.heights)

    def undo(self):
        if not self.heights:
            raise LookupError("nothing to undo")
        return self.heights.pop(@@undo.at@@)
