
def bill(calls, is_house):
    """The bill of a month: lines of text, and the sum in pence."""
    lines = []
    total = 0
    for ship, metres, minutes in calls:
        hours = minutes // 60
        if minutes % 60:
            hours += 1
        if metres < 20:
            metres = 20
        pence = metres * hours * 18
        if is_house:
            pence = pence * 3 // 4
        lines.append(f"{ship}: {pence // 100}.{pence % 100:02d}")
        total += pence
    if total > 100_000:
        discount = total * 4 // 100
        total -= discount
        lines.append(f"discount: -{discount // 100}.{discount % 100:02d}")
    lines.append(f"total: {total // 100}.{total % 100:02d}")
    return lines, total
