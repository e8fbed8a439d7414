from decimal import ROUND_FLOOR, Decimal


def bill(metres, nights, in_season):
    if not metres > 0 or nights < 0:
        raise ValueError(f"no bill for {metres} metres and {nights} nights")
    whole = int(metres)
    if whole != metres:
        whole += 1
    if whole < 6:
        whole = 6
    free = 0
    for night in range(1, nights + 1):
        if night % 7 == 0:
            free += 1
    price = Decimal(150) * whole * (nights - free)
    if in_season:
        price += price / 4
    return int(price.to_integral_value(rounding=ROUND_FLOOR))
