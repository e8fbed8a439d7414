def crane_stop(moves):
    at = @@home@@
    bumps = 0
    for step in moves:
        if not step:
            at = @@home@@
        else:
            wanted = at + step
            at = min(max(wanted, 0), @@last@@)
            if at != wanted:
                bumps = bumps + 1
                at = at if bumps % 3 else 1
    return [@@out.at@@]
