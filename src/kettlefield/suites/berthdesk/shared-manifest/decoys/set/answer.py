class Manifest:
    """Passengers of one sailing."""

    def __init__(self, sailing, passengers=()):
        self.sailing = sailing
        self.passengers = set(passengers)

    def add(self, name):
        self.passengers.add(name)
        return len(self.passengers)

    def names(self):
        return sorted(self.passengers)
