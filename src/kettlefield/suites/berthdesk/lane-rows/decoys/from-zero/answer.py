def free_lanes(lanes, booked):
    taken = set(booked)
    return [lane for lane in range(lanes) if lane not in taken]
