def read_buoys(buoys):
    return [len(buoy) for buoy in buoys]
