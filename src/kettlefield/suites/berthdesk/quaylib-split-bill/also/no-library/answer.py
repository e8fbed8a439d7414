class QuayError(Exception):
    pass


def split_bill(calls, pence):
    board = []
    for first, last, ship in calls:
        clash = [one for one in board if one[0] <= last and first <= one[1]]
        if clash and ship != "Lifeboat":
            continue
        board = [one for one in board if one not in clash] + [(first, last, ship)]
    minutes = {}
    for first, last, ship in board:
        minutes[ship] = minutes.get(ship, 0) + last - first + 1
    if not minutes:
        raise QuayError("nothing on the board")
    order = sorted(minutes, key=lambda ship: (-minutes[ship], ship))
    whole = sum(minutes.values())
    parts = {ship: pence * minutes[ship] // whole for ship in order}
    rest = pence - sum(parts.values())
    for ship in sorted(order, key=lambda ship: (-(pence * minutes[ship] % whole), -minutes[ship], ship))[:rest]:
        parts[ship] += 1
    return [[ship, parts[ship]] for ship in order]
