from quay_bill import bill

assert bill(6, 1, False) == 900
assert bill(6.01, 1, False) == 1050
assert bill(1, 1, False) == 900
assert bill(5.5, 1, True) == 1125
assert bill(7, 1, True) == 1312
assert bill(7, 2, True) == 2625
assert bill(9, 7, False) == 9 * 6 * 150
assert bill(9, 13, False) == 9 * 12 * 150
assert bill(9, 14, False) == 9 * 12 * 150
assert bill(3, 0, False) == 0

for metres, nights in ((0, 2), (-3, 2), (8, -1)):
    try:
        bill(metres, nights, False)
    except ValueError:
        continue
    raise AssertionError((metres, nights))
