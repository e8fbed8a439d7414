import sys

rows = sys.stdin.read().split("\n")
coil = int(rows[0])
used, left, waste = 1, coil, 0
for row in rows[1:]:
    if not row.strip():
        continue
    name, wish = row.split()
    wish = int(wish)
    if wish > coil:
        print(name, "@@no@@")
        continue
    if wish > left:
        waste += left
        used += 1
        left = coil
    left -= wish
    print(name, used - @@from.less@@)
print("@@rest@@", waste + @@last.add@@)
