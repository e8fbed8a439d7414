def first_repeats(signs):
    first, done, total = {}, set(), 0
    for place, sign in enumerate(signs):
        if sign not in first:
            first[sign] = place
        else:
            done.add(sign)
            total += place - first[sign]
    return total
