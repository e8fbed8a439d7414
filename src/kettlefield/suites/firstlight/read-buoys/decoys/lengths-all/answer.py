def read_buoys(buoys):
    return [len(buoys) for buoy in buoys]
