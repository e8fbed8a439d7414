from share_pence import share

cases = [
    (7, [1, 1, 1], [3, 2, 2]),
    (8, [1, 1, 1], [3, 3, 2]),
    (10, [1, 2], [3, 7]),
    (11, [1, 2], [4, 7]),
    (9, [1, 10], [1, 8]),
    (0, [1], [0]),
    (12, [0, 5], [0, 12]),
    (100, [33, 33, 34], [33, 33, 34]),
    (3, [1, 1], [2, 1]),
]
for pence, weights, right in cases:
    kept = weights.copy()
    assert share(pence, weights) == right, (pence, weights)
    assert weights == kept
for pence, weights in [(1, [0]), (1, []), (-2, [1, 1]), (4, [-1, 3])]:
    try:
        share(pence, weights)
        raise SystemExit(f"{pence} among {weights} is taken")
    except ValueError:
        pass
