def boarding_order(foot, cars):
    """Names in the order in which they board.

    foot, cars -- lists of [minute, name], each sorted by minute; the result goes by minute, and in the same minute
    @@who.says@@, each list in its own order.
    """
    order = []
    i = j = 0
    while i < len(foot) and j < len(cars):
        if foot[i][0] @@who.op@@ cars[j][0]:
            order.append(foot[i][1])
            i += 1
        else:
            order.append(cars[j][1])
            j += 1
    order += [name for _, name in foot[i:]]
    order += [name for _, name in cars[j:]]
    return order
