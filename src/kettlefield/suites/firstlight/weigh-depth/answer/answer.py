def weigh_depth(depth, tide):
    value = min(depth, tide)
    value = value + @@n@@
    return value // 5
