class TideLog:
    def __init__(self):
        self.heights = []

    def add(self, height):
        self.heights.append(height)
        return len(self.heights)

    def range(self):
        if not self.heights:
            return 0
        return self.heights[-1] - self.heights[0]
