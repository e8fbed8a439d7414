import sys
from collections import Counter

sums = Counter()
for line in sys.stdin.read().splitlines():
    name, amount = line.split()
    sums[name] += int(amount)
    print(f"{name} {amount}")
for name in sorted(sums@@sort.sums@@):
    print(f"@@each@@ {name} {sums[name]}")
print(f"@@all@@ {sum(sums.values())}")
