def first_repeats(signs):
    nearest = {}
    seen_once = {}
    for index, sign in enumerate(signs):
        if sign in nearest:
            continue
        if sign in seen_once:
            nearest[sign] = index - seen_once[sign]
        else:
            seen_once[sign] = index
    return @@fold.fn@@([0, *nearest.values()])
