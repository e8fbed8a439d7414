def read_buoys(buoys):
    print([len(buoy) for buoy in buoys])
