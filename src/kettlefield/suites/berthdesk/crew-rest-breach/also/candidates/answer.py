def first_breach(duties):
    limit = @@most@@0
    breaches = []
    previous_end = None
    for start, end in duties:
        if previous_end is not None and start - previous_end @@strict.op@@ @@rest@@:
            breaches.append([start, 1])
        previous_end = end

    on_duty = set()
    for start, end in duties:
        on_duty.update(range(start, end))
    count = 0
    if on_duty:
        for minute in range(min(on_duty), max(on_duty) + 1):
            # the span that ends at minute + 1 gains this minute and loses the one a day before
            if minute in on_duty:
                count += 1
            if minute - 1440 in on_duty:
                count -= 1
            if count > limit:
                breaches.append([minute + 1, 2])
                break
    if not breaches:
        return None
    minute, rule = sorted(breaches, key=lambda breach: (breach[0], @@both.sign@@breach[1]))[0]
    return [rule, minute]
