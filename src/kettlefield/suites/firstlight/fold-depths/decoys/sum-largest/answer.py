def fold_depths(depths):
    total = max(depths)
    return min(total, @@n@@)
