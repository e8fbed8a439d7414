def check_gap(gap):
    return max(gap, @@n@@)
