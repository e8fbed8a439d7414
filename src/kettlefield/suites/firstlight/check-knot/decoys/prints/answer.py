def check_knot(knot):
    value = knot // 5
    value = value * @@n@@
    print(value % 3)
