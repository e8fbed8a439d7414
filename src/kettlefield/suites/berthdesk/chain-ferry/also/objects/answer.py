from collections import deque


class Ferry:
    def __init__(self, metres, patience, minutes):
        self.metres, self.patience, self.minutes = metres, patience, minutes
        self.side, self.arrives = @@home.side@@, 0
        self.queue = {"west": deque(), "east": deque()}
        self.load, self.first = [], 0
        self.trips = []

    def used(self):
        return sum(length for _, length in self.load)

    def board(self, now):
        stay, held = deque(), False
        for name, length in self.queue[self.side]:
            if not held and self.used() + length <= self.metres:
                if not self.load:
                    self.first = now
                self.load.append((name, length))
            else:
                stay.append((name, length))
                if "@@line.go@@" == "break":
                    held = True
        self.queue[self.side] = stay

    def must_leave(self, now):
        here = self.queue[self.side]
        there = self.queue[{"west": "east", "east": "west"}[self.side]]
        if here or self.used() == self.metres:
            return True
        if self.load:
            return now >= self.first + self.patience
        return bool(there)

    def leave(self, now):
        self.trips.append([now, self.side, [name for name, _ in self.load]])
        self.load = []
        self.side = "east" if self.side == "west" else "west"
        self.arrives = now + self.minutes


def crossings(cars, metres, patience, minutes):
    for car in cars:
        if car[3] > metres:
            raise ValueError(car[2])
    ferry = Ferry(metres, patience, minutes)
    by_minute = {}
    for minute, side, name, length in cars:
        by_minute.setdefault(minute, []).append((side, name, length))
    carried, now = 0, 0
    while carried < len(cars):
        def join():
            for side, name, length in by_minute.get(now, []):
                ferry.queue[side].append((name, length))

        def turn():
            if now >= ferry.arrives:
                ferry.board(now)
                if ferry.must_leave(now):
                    ferry.leave(now)

        for step in (turn, join) if @@steps.late@@ else (join, turn):
            step()
        carried = sum(len(names) for _, _, names in ferry.trips)
        now += 1
    return ferry.trips
