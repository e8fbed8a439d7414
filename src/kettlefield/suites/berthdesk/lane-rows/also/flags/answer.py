def free_lanes(lanes, booked):
    is_free = [True] * (lanes + 1)
    for lane in booked:
        if 0 < lane <= lanes:
            is_free[lane] = False
    result = []
    for lane in range(1, lanes + 1):
        if is_free[lane]:
            result.append(lane)
    return result
