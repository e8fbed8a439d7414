REST = @@rest@@
MOST = @@most@@0


def first_breach(duties):
    if not duties:
        return None
    end = duties[-1][1]
    on = [0] * (end + 1)
    for start, stop in duties:
        for minute in range(start, stop):
            on[minute] = 1
    starts = {later[0] for earlier, later in zip(duties, duties[1:]) if later[0] - earlier[1] @@strict.op@@ REST}
    total = 0
    for t in range(end + 1):
        if t > 0:
            total += on[t - 1]
        if t > 1440:
            total -= on[t - 1441]
        if t in starts and total > MOST:
            return [@@both.rule@@, t]
        if t in starts:
            return [1, t]
        if total > MOST:
            return [2, t]
    return None
