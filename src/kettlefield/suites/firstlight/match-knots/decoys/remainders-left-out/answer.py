def match_knots(knots):
    knots = knots
    return [min(knot, 57) for knot in knots]
