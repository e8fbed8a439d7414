def free_lanes(lanes, booked):
    taken = set(booked)
    return [lane for lane in range(1, lanes + 1) if lane not in taken]
