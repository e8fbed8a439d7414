def fold_buoys(buoys):
    return [buoy for buoy in buoys if "@@letter@@" not in buoy]
