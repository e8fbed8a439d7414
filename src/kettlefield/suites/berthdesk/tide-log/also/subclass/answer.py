class TideLog(list):
    def add(self, height):
        super().append(height)
        return len(self)

    def range(self):
        return max(self) - min(self) if self else 0
