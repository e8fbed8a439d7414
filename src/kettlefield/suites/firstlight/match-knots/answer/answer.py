def match_knots(knots):
    knots = [knot % @@n@@ for knot in knots]
    return [min(knot, 57) for knot in knots]
