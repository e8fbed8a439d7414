def match_knots(knots):
    knots = [knot % @@n@@ for knot in knots]
    return [max(knot, 57) for knot in knots]
