def gaps(shifts, start, end):
    if start == end:
        raise ValueError("day")
    if any(first >= last for first, last in shifts):
        raise ValueError("shift")
    found, reached = [], start
    for first, last in sorted(shifts):
        if first >= end:
            break
        if first > reached:
            found.append([reached, first])
        reached = max(reached, last)
    if reached < end:
        found.append([reached, end])
    return found
