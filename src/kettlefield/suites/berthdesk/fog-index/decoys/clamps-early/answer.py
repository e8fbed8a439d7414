def fog_index(dew, air, wind, light):
    gap = max(0, air - dew)
    base = @@top@@ - @@weight@@ * gap
    if wind > 6:
        base -= wind * wind
    else:
        base += wind
    base = min(100, max(0, base // 3))
    if light < 20:
        base += 7
    elif light > 80:
        base -= 7
    return base
