import sys

heard = sorted(set(map(int, sys.stdin.read().split())))
@@word@@ = 0
for before, after in zip(heard, heard[1:]):
    if after - before > 1:
        first, last = before + 1, after - 1
        print(first if @@one.py@@ and first == last else f"{first}-{last}")
        @@word@@ += @@count.own@@
print("@@word@@", @@word@@)
