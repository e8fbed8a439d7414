RATES = {"A": @@overtime@@, "B": 455, "C": 610, "D": 890}
FREE = @@grace@@


def quarters(minutes):
    return -(-minutes // 15)


def overtime_money(ship_class, is_house, slot, stayed):
    rate = RATES[ship_class]
    overtime = stayed - slot
    if is_house:
        pence = -(-quarters(max(0, overtime - 60)) * rate // 2)
    elif overtime <= FREE:
        pence = 0
    else:
        pence = quarters(overtime) * rate
    return min(pence, quarters(slot) * rate) if slot else pence
