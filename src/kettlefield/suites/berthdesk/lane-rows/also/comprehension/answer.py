def free_lanes(lanes, booked):
    return sorted(set(range(1, lanes + 1)) - set(booked))
