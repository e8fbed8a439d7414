def sort_depths(depths):
    top = max(depths)
    return top - @@n@@
