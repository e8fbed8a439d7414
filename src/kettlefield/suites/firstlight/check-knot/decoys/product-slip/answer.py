def check_knot(knot):
    value = knot // 5
    value = value + @@n@@
    return value % 3
