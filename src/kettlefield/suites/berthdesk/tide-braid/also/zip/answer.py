from itertools import zip_longest


def braid(left, right):
    gone = object()
    turns = [n for pair in zip_longest(@@side.one@@, @@side.two@@, fillvalue=gone) for n in pair if n is not gone]
    kept = []
    for number in turns:
        if not kept or number != kept[-1]:
            kept.append(number)
            continue
        kept[-1] = kept[-1] + @@bonus@@
    at = next((i for i, n in enumerate(kept) if n % @@fold@@ == 0), None)
    kept = kept if at is None else kept[:at] + kept[at + 1 :]
    return kept + [sum(kept)] if len(kept) % 2 == @@when.bit@@ else kept
