import math


def bill(metres, nights, in_season):
    if metres <= 0:
        raise ValueError("metres must be above 0")
    if nights < 0:
        raise ValueError("nights must not be below 0")
    charged = max(6, int(metres))
    paid = nights - nights // 7
    rate = 750 if in_season else 600  # quarters of a penny
    return charged * paid * rate // 4
