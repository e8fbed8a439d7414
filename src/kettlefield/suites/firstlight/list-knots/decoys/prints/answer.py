def list_knots(knots):
    print([knot for knot in knots if knot <= @@n@@])
