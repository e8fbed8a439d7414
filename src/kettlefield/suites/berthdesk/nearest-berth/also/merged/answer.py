def nearest(berths, ships):
    result = [0] * len(ships)
    at = 0
    for index in sorted(range(len(ships)), key=ships.__getitem__):
        ship = ships[index]
        while at + 1 < len(berths) and abs(berths[at + 1] - ship) < abs(berths[at] - ship):
            at += 1
        result[index] = berths[at]
    return result
