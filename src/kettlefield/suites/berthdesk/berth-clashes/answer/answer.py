def berth_clashes(bookings, turnaround):
    by_berth = {}
    for booking in bookings:
        by_berth.setdefault(booking["berth"], []).append(booking)
    clashes = []
    for berth in sorted(by_berth):
        queue = sorted(by_berth[berth], key=lambda booking: booking["arrives"])
        for index, first in enumerate(queue):
            for second in queue[index + 1 :]:
                same_minute = first["arrives"] == second["arrives"]
                if same_minute or second["arrives"] @@edge.op@@ first["leaves"] + turnaround:
                    clashes.append([berth, first["ship"], second["ship"]])
    return [@@shape.make@@ for berth, a, b in clashes]
