from itertools import combinations


def berth_clashes(bookings, turnaround):
    order = sorted(range(len(bookings)), key=lambda i: (bookings[i]["arrives"], i))
    found = []
    for i, j in combinations(order, 2):
        a, b = bookings[i], bookings[j]
        if a["berth"] != b["berth"]:
            continue
        if b["arrives"] == a["arrives"] or b["arrives"] @@edge.op@@ a["leaves"] + turnaround:
            found.append((a["berth"], a["arrives"], b["arrives"], i, j))
    found.sort()
    ships = [(berth, bookings[i]["ship"], bookings[j]["ship"]) for berth, _, _, i, j in found]
    return [@@shape.make@@ for berth, a, b in ships]
