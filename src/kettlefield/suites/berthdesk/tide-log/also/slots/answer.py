class TideLog:
    def __init__(self):
        self.low = self.high = None
        self.count = 0

    def add(self, height):
        self.low = height if self.count == 0 else min(self.low, height)
        self.high = height if self.count == 0 else max(self.high, height)
        self.count += 1
        return self.count

    def range(self):
        return self.high - self.low if self.count else 0
