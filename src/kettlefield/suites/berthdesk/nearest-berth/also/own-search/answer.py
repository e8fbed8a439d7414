def nearest(berths, ships):
    def lower(ship):
        low, high = 0, len(berths)
        while low < high:
            middle = (low + high) // 2
            if berths[middle] < ship:
                low = middle + 1
            else:
                high = middle
        return low

    result = []
    for ship in ships:
        i = lower(ship)
        if i == 0:
            result.append(berths[0])
        elif i == len(berths):
            result.append(berths[-1])
        elif ship - berths[i - 1] <= berths[i] - ship:
            result.append(berths[i - 1])
        else:
            result.append(berths[i])
    return result
