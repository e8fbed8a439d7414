from quaylib import Board, Span, Tide, mark

WEEK = Span(0, 10079)


def free_times(calls, high, least):
    board = Board()
    for call in calls:
        begins, _, rest = call.partition(" - ")
        over = " ".join(rest.split()[:2])
        span = Span.of(begins, over)
        board.squeeze(span)
        board.squeeze(span.moved(-10080))
    times = Tide(mark(high)).open(WEEK, 120, 60)
    return [str(gap) for part in times for gap in board.gaps(part, least)]
