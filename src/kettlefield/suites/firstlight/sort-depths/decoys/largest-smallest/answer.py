def sort_depths(depths):
    top = min(depths)
    return top - @@n@@
