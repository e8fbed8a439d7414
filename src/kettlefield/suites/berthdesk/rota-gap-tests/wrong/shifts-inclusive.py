def gaps(shifts, start, end):
    if not start < end:
        raise ValueError("the day has no length")
    for first, last in shifts:
        if not first < last:
            raise ValueError("a shift has no length")
    free = [minute for minute in range(start, end) if not any(a <= minute <= b for a, b in shifts)]
    out = []
    for minute in free:
        if out and out[-1][1] == minute:
            out[-1][1] += 1
        else:
            out.append([minute, minute + 1])
    return out
