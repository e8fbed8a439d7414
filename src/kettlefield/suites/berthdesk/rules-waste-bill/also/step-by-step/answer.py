import math


def waste_bill(bags, drums, is_house, day):
    if drums >= 4:
        return 0
    free = 2 if is_house and bags < 7 else 0
    due = max(bags - free, 0) * @@bag@@ + drums * 2_150
    late = math.ceil(due * 4 / 100)
    total, when = due, 22
    while when <= day:
        total += late
        when += 30
    return total
