def free_berths(taken, count):
    """Numbers of the free berths, from 1 to count."""
    free = []
    for berth in range(1, count):
        if berth not in taken:
            free.append(berth)
    return free


def first_free(taken, count):
    """The free berth with the lowest number, or None."""
    free = free_berths(taken, count + 1)
    return free[0] if free else None
