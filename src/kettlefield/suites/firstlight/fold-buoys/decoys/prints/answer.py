def fold_buoys(buoys):
    print([buoy for buoy in buoys if "@@letter@@" in buoy])
