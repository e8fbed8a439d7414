def first_repeats(signs):
    first, done, total = {}, set(), 0
    for place, sign in enumerate(signs):
        if sign not in first:
            first[sign] = place
        elif sign not in done:
            done.add(sign)
            total = @@fold.pre@@total@@fold.mid@@ place - first[sign]@@fold.post@@
    return total
