def waste_bill(bags, drums, is_house, day):
    if drums > 3:
        return 0
    paid = bags - 2 if is_house and bags <= 6 else bags
    due = max(0, paid) * @@bag@@ + drums * 2150
    additions = 0 if day < 22 else 1 + (day - 22) // 30
    return due + additions * -(-due * 4 // 100)
