def free_lanes(lanes, booked):
    taken = set(booked)
    return [lane for lane in range(1, lanes + 1) if lane not in taken]


def first_row(lanes, booked, wanted):
    if wanted < 1:
        raise ValueError("wanted must be at least 1")
    free = free_lanes(lanes, booked)
    for start in free[::@@side.step@@]:
        if all(start + i in free for i in range(wanted)):
            return start
    return None
