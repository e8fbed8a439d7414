def fold_swell(swell, tide):
    value = swell - tide
    return value - @@n@@
