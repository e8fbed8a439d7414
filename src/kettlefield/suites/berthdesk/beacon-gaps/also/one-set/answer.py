import sys

numbers = set()
for line in sys.stdin:
    numbers.update(int(word) for word in line.split())
lost = []
if numbers:
    lost = [n for n in range(min(numbers), max(numbers)) if n not in numbers]
start = None
for i, n in enumerate(lost):
    if start is None:
        start = n
    if i + 1 == len(lost) or lost[i + 1] != n + 1:
        print(str(n) if @@one.py@@ and start == n else "%d-%d" % (start, n))
        start = None
print("@@word@@ %d" % @@count.set@@)
