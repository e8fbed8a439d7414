def fold_depths(depths):
    total = len(depths)
    return min(total, @@n@@)
