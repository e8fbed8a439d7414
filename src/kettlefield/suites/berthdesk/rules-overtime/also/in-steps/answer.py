def overtime_money(ship_class, is_house, slot, stayed):
    rate = dict(zip("ABCD", (@@overtime@@, 455, 610, 890)))[ship_class]
    over = max(stayed - slot, 0)
    if is_house:
        over = max(over - 60, 0)
    elif over <= @@grace@@:
        over = 0
    begun = (over + 14) // 15
    money = begun * rate
    if is_house:
        money = money // 2 + money % 2
    if slot > 0:
        money = min(money, (slot + 14) // 15 * rate)
    return money
