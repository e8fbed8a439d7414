def list_knots(knots):
    return [knot for knot in knots if not (knot <= @@n@@)]
