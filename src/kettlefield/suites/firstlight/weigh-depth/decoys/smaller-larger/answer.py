def weigh_depth(depth, tide):
    value = max(depth, tide)
    value = value + @@n@@
    return value // 5
