def fold_buoys(buoys):
    return [buoy for buoy in buoys if "@@letter@@" in buoy]
