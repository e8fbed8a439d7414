def fog_index(dew, air, wind, light):
    gap = max(0, air - dew)
    base = @@top@@ - @@weight@@ * gap
    if wind @@strong.op@@ 6:
        base -= wind * wind
    else:
        base += wind
    base = @@cut.expr@@
    if light < 20:
        base += 7
    elif light > 80:
        base -= 7
    return min(100, max(0, base))
