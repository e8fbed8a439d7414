class RopeRegister:
    """Ropes of the berth desk: each has a number and a length in metres, and is either in or lent out."""

    def __init__(self):
        self.lengths = {}  # number -> metres
        self.lent = {}  # number -> name of the ship

    def put_in(self, number, metres):
        """Add a rope that is in; an unknown length or a number that is there already raises ValueError."""
        if metres <= 0 or number in self.lengths:
            raise ValueError(number)
        self.lengths[number] = metres

    def lend(self, ship, metres):
        """Lend the shortest rope of at least that length that is in, of equal ones the lowest number.

        Returns its number; raises LookupError when there is none.
        """
        fits = [(length, number) for number, length in self.lengths.items() if length > metres and number not in self.lent]
        if not fits:
            raise LookupError(metres)
        number = min(fits)[1]
        self.lent[number] = ship
        return number
