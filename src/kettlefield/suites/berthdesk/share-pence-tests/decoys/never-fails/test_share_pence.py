import itertools
import sys

import share_pence


def wanted(pence, weights):
    total = sum(weights)
    shares = [pence * weight // total for weight in weights]
    rests = [(-(pence * weight % total), place) for place, weight in enumerate(weights)]
    for _, place in sorted(rests)[: pence - sum(shares)]:
        shares[place] += 1
    return shares


for pence in range(0, 25):
    for weights in itertools.product(range(4), repeat=3):
        given = list(weights)
        try:
            got = share_pence.share(pence, given)
        except ValueError:
            got = None
        if got != (wanted(pence, weights) if any(weights) else None) or given != list(weights):
            print(f"{pence} {weights}: {got}")
for pence, weights in ((3, []), (3, [2, -1]), (-3, [1, 1])):
    try:
        share_pence.share(pence, weights)
    except ValueError:
        continue
    print(f"{pence} {weights} is not refused")
