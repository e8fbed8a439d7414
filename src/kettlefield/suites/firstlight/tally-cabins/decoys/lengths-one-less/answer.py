def tally_cabins(cabins):
    cabins = [cabin for cabin in cabins if len(cabin) > 5]
    return [len(cabin) - 1 for cabin in cabins]
