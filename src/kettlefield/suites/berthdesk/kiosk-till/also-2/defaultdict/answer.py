import sys
from collections import defaultdict

sums = defaultdict(int)
for line in sys.stdin:
    parts = line.split()
    if len(parts) != 2:
        continue
    name, pence = parts[0], int(parts[1])
    sums[name] += pence
    print(f"{name} {parts[1]}")
for name, pence in sorted(sums.items()@@sort.items@@):
    print(f"@@each@@ {name} {pence}")
print(f"@@all@@ {sum(sums.values())}")
