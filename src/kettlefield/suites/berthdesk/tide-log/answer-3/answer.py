class TideLog:
    def __init__(self, limit=None):
        self.heights = []
        self.limit = limit

    def add(self, height):
        self.heights.append(height)
        if self.limit is not None and len(self.heights) > self.limit:
            @@drop.code@@
        return len(self.heights)

    def range(self):
        if not self.heights:
            return 0
        return max(self.heights) - min(self.heights)

    def undo(self):
        if not self.heights:
            raise LookupError("nothing to undo")
        return self.heights.pop(@@undo.at@@)
