def free_berths(taken, count):
    """Numbers of the free berths, from 1 to count."""
    free = []
    for berth in range(1, count + 1):
        if berth not in taken:
            free.append(berth)
    return free


def first_free(occupied, count):
    """The free berth with the lowest number, or None."""
    free = free_berths(occupied, count)
    return free[0] if free else None
