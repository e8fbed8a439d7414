def braid(left, right):
    turns = []
    for i in range(max(len(left), len(right))):
        turns += left[i : i + 1] + right[i : i + 1]
    kept = []
    last = None
    for number in turns:
        same, last = number == last, number
        if kept and same:
            kept[-1] += @@bonus@@
        else:
            kept.append(number)
    for i, number in enumerate(kept):
        if number % @@fold@@ == 0:
            del kept[i]
            break
    if len(kept) % 2 == 1:
        kept.append(sum(kept))
    return kept
