def plan_depth(depth, toll):
    value = min(depth, toll)
    value = value % @@n@@
    return min(value, 49)
