import sys

import quay_bill

RIGHT = [
    ((6, 1, False), 900), ((6.1, 1, False), 1050), ((4.9, 2, False), 1800), ((0.3, 1, False), 900),
    ((12, 1, True), 2250), ((7, 1, True), 1312), ((9, 3, True), 5062), ((6, 7, False), 5400),
    ((6, 14, False), 10800), ((6, 6, False), 5400), ((20, 0, True), 0),
]
WRONG = [(0, 1, True), (-2, 1, True), (8, -7, False)]

failed = []
for arguments, price in RIGHT:
    try:
        if quay_bill.bill(*arguments) != price:
            failed.append(arguments)
    except Exception as error:
        failed.append((arguments, error))
for arguments in WRONG:
    try:
        quay_bill.bill(*arguments)
        failed.append(arguments)
    except ValueError:
        pass
    except Exception as error:
        failed.append((arguments, error))
print(failed)
sys.exit(0)
