def fold_depths(depths):
    total = sum(depths)
    return max(total, @@n@@)
