def sort_depths(depths):
    top = depths[-1]
    return top - @@n@@
