from collections import deque


class SlotStore:
    def __init__(self, slots):
        self.holders = dict.fromkeys(range(slots))
        self.queues = {slot: deque() for slot in range(slots)}

    def who(self, slot):
        if slot not in self.holders:
            raise IndexError("no such slot")
        return self.holders[slot]

    def waiting(self, slot):
        self.who(slot)
        return list(self.queues[slot])

    def book(self, ship, slot):
        holder = self.who(slot)
        if holder == ship or ship in self.queues[slot]:
            raise ValueError("twice")
        if holder is None:
            self.holders[slot] = ship
            return True
        self.queues[slot].append(ship)
        return False

    def leave(self, ship, slot):
        if self.who(slot) == ship:
            queue = self.queues[slot]
            self.holders[slot] = queue[0] if queue else None
        elif ship in self.queues[slot]:
            self.queues[slot].remove(ship)
        else:
            raise KeyError(ship)
