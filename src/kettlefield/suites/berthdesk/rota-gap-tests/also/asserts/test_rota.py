import sys

from rota import gaps

good = [
    (([[10, 20], [40, 50]], 0, 60), [[0, 10], [20, 40], [50, 60]]),
    (([[40, 60], [0, 20]], 0, 60), [[20, 40]]),
    (([[0, 50], [10, 20]], 0, 60), [[50, 60]]),
    (([[0, 5], [5, 9]], 0, 9), []),
    (([[-9, 5], [7, 99], [100, 101]], 0, 9), [[5, 7]]),
    (([[100, 101]], 0, 9), [[0, 9]]),
    (([[-9, -5], [2, 9]], 0, 9), [[0, 2]]),
    (([], 2, 3), [[2, 3]]),
    (([[1, 2]], 0, 9), [[0, 1], [2, 9]]),
]
bad = [([[5, 5]], 0, 9), ([[6, 5]], 0, 9), ([], 3, 3), ([], 4, 3)]
for arguments, wanted in good:
    before = [list(pair) for pair in arguments[0]]
    if gaps(*arguments) != wanted or arguments[0] != before:
        sys.exit(f"wrong: {arguments}")
for arguments in bad:
    try:
        gaps(*arguments)
        sys.exit(f"taken: {arguments}")
    except ValueError:
        pass
