def braid(left, right):
    turns = []
    for i in range(max(len(left), len(right))):
        turns += @@side.one@@[i : i + 1] + @@side.two@@[i : i + 1]
    kept = []
    for number in turns:
        if kept and kept[-1] == number:
            kept[-1] += @@bonus@@
        else:
            kept.append(number)
    for i, number in enumerate(kept):
        if number % @@fold@@ == 0:
            del kept[i]
            break
    if len(kept) % 2 == @@when.bit@@:
        kept.append(sum(kept))
    return kept
