import sys

total = 0
by_name = {}
for line in sys.stdin:
    name, pence = line.split()
    total += int(pence)
    by_name[name] = by_name.get(name, 0) + int(pence)
    print(name, pence)
for name in sorted(by_name@@sort.own@@):
    print("@@each@@", name, by_name[name])
print("@@all@@", total)
