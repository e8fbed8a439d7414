import sys

first, *wishes = [line.split() for line in sys.stdin if line.strip()]
length = int(first[0])
coils = [length]
thrown = 0
for ship, amount in wishes:
    need = int(amount)
    if need > length:
        print(f"{ship} @@no@@")
    else:
        if coils[-1] < need:
            thrown += coils[-1]
            coils.append(length)
        coils[-1] -= need
        print(f"{ship} {len(coils) - @@from.less@@}")
print(f"@@rest@@ {thrown + @@last.plain@@}")
