class Manifest:
    """Passengers of one sailing."""

    def __init__(self, sailing, passengers=[]):
        self.sailing = sailing
        self.passengers = passengers

    def add(self, name):
        self.passengers.append(name)
        return len(self.passengers)

    def names(self):
        return sorted(self.passengers)
