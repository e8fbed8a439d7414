def plan_depth(depth, toll):
    value = max(depth, toll)
    value = value % @@n@@
    return max(value, 49)
