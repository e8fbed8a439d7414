HOURLY = 18
LEAST_METRES = 20
LARGE = 100_000


def pounds(pence):
    return f"{pence // 100}.{pence % 100:02d}"


def call_pence(metres, minutes, is_house):
    hours = -(-minutes // 60)
    pence = max(metres, LEAST_METRES) * hours * HOURLY
    return pence * 3 // 4 if is_house else pence


def discount_of(total):
    return total * 4 // 100 if total > LARGE else 0


def bill(calls, is_house):
    """The bill of a month: lines of text, and the sum in pence."""
    charged = [(ship, call_pence(metres, minutes, is_house)) for ship, metres, minutes in calls]
    lines = [f"{ship}: {pounds(pence)}" for ship, pence in charged]
    total = sum(pence for _, pence in charged)
    discount = discount_of(total)
    if discount:
        lines.append(f"discount: -{pounds(discount)}")
    lines.append(f"total: {pounds(total - discount)}")
    return lines, total - discount
