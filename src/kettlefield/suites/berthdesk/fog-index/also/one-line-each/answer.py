def fog_index(dew, air, wind, light):
    gap = air - dew
    if gap < 0:
        gap = 0
    base = @@top@@ - @@weight@@ * gap
    base = base - wind ** 2 if wind @@strong.op@@ 6 else base + wind
    base = @@cut.expr@@
    base += 7 * (light < 20) - 7 * (light > 80)
    return sorted((0, base, 100))[1]
