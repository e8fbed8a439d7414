def plan_depth(depth, toll):
    value = max(depth, toll)
    value = value // @@n@@
    return min(value, 49)
