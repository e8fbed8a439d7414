from quaylib import Board, QuayError, Span, shares


def split_bill(calls, pence):
    board = Board()
    for first, last, ship in calls:
        span = Span(first, last, ship)
        if ship == "Lifeboat":
            board.force(span)
            continue
        try:
            board.add(span)
        except QuayError:
            pass
    return [[ship, part] for ship, part in shares(pence, board.totals()).items()]
