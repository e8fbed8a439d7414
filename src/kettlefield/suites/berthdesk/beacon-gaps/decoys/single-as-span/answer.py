import sys

heard = sorted(set(map(int, sys.stdin.read().split())))
missing = 0
for before, after in zip(heard, heard[1:]):
    if after - before > 1:
        first, last = before + 1, after - 1
        print(f"{first}-{last}")
        missing += last - first + 1
print("missing", missing)
