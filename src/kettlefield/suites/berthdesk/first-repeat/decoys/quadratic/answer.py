def first_repeats(signs):
    done, total = [], 0
    for place, sign in enumerate(signs):
        first = signs.index(sign)
        if first < place and sign not in done:
            done.append(sign)
            total = @@fold.pre@@total@@fold.mid@@ place - first@@fold.post@@
    return total
