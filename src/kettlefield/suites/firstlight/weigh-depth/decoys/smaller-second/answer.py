def weigh_depth(depth, tide):
    value = tide
    value = value + @@n@@
    return value // 5
