from itertools import combinations


def berth_clashes(bookings, turnaround):
    order = sorted(enumerate(bookings), key=lambda item: (item[1]["berth"], item[1]["arrives"], item[0]))
    clashes = []
    for (_, first), (_, second) in combinations(order, 2):
        if first["berth"] != second["berth"]:
            continue
        if second["arrives"] == first["arrives"] or second["arrives"] - first["leaves"] @@edge.op@@ turnaround:
            clashes.append([first["berth"], first["ship"], second["ship"]])
    return [@@shape.make@@ for berth, a, b in clashes]
