def first_breach(duties):
    breaches = []
    for (_, end), (start, _) in zip(duties, duties[1:]):
        if start - end @@strict.op@@ @@rest@@:
            breaches.append((start, 1))
            break
    last = duties[-1][1] if duties else 0
    first = duties[0][0] if duties else 0
    for t in range(first, last + 1):
        on_duty = sum(
            max(0, min(end, t) - max(start, t - 1440)) for start, end in duties
        )
        if on_duty > @@most@@0:
            breaches.append((t, 2))
            break
    if not breaches:
        return None
    minute, rule = min(breaches, key=lambda breach: (breach[0], @@both.sign@@breach[1]))
    return [rule, minute]
