def fold_depths(depths):
    total = sum(depths)
    return min(total, @@n@@)
