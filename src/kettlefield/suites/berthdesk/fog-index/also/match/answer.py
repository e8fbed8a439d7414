import math


def fog_index(dew, air, wind, light):
    gap = air - dew
    if gap < 0:
        gap = 0
    base = @@top@@ - gap * @@weight@@
    base = base - wind**2 if wind @@strong.op@@ 6 else base + wind
    result = math.@@cut.math@@(base / 3)
    match light:
        case _ if light < 20:
            result = result + 7
        case _ if light > 80:
            result = result - 7
    if result < 0:
        return 0
    return 100 if result > 100 else result
