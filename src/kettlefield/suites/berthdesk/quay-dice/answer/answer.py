def crane_stop(moves):
    place, bumps = @@home@@, 0
    for move in moves:
        if move == 0:
            place = @@home@@
            continue
        place += move
        if place < 0 or place > @@last@@:
            place = 0 if place < 0 else @@last@@
            bumps += 1
            if bumps % 3 == 0:
                place = 1
    return [@@out.own@@]
