def free_lanes(lanes, booked):
    free = []
    for lane in range(1, lanes + 1):
        if lane not in booked:
            free.append(lane)
    return free


def first_row(lanes, booked, wanted):
    run, places = 0, []
    for lane in range(1, lanes + 1):
        run = 0 if lane in booked else run + 1
        if run >= wanted:
            places.append(lane - wanted + 1)
    return (places or [None])[@@side.index@@]
