HOME = @@home.side@@
LATE = @@steps.late@@


def crossings(cars, metres, patience, minutes):
    if any(length > metres for _, _, _, length in cars):
        raise ValueError("a car longer than the ferry")
    lines = {"west": [], "east": []}
    coming = sorted(cars, key=lambda car: car[0])
    trips, aboard = [], []
    side, free_at, waits_since = HOME, 0, None
    left_over, minute = len(cars), 0
    while left_over or minute < free_at:
        if not LATE:
            coming = join(coming, lines, minute)
        if minute >= free_at:
            room = metres - sum(length for _, length in aboard)
            for car in list(lines[side]):
                if car[1] > room:
                    @@line.go@@
                lines[side].remove(car)
                aboard.append(car)
                room -= car[1]
                if waits_since is None:
                    waits_since = minute
            other = "east" if side == "west" else "west"
            full = room == 0 or lines[side]
            waited = aboard and minute - waits_since >= patience
            called = not aboard and not lines[side] and lines[other]
            if full or waited or called:
                trips.append([minute, side, [name for name, _ in aboard]])
                left_over -= len(aboard)
                aboard, waits_since = [], None
                side, free_at = other, minute + minutes
        if LATE:
            coming = join(coming, lines, minute)
        minute += 1
    return trips


def join(coming, lines, minute):
    while coming and coming[0][0] <= minute:
        _, where, name, length = coming[0]
        lines[where].append((name, length))
        coming = coming[1:]
    return coming
