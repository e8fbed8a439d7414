def read_buoys(buoys):
    return [len(buoy) - 1 for buoy in buoys]
