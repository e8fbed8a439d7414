def check_gap(gap):
    return min(gap, @@n@@)
