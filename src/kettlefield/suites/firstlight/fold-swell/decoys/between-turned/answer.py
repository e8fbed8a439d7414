def fold_swell(swell, tide):
    value = tide - swell
    return value + @@n@@
