import sys

total = 0
for line in sys.stdin:
    name, pence = line.split()
    total += int(pence)
print("@@all@@", total)
