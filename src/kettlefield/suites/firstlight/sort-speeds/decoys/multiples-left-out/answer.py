def sort_speeds(speeds):
    speeds = speeds
    speeds = [speed // 2 for speed in speeds]
    return [speed for speed in speeds if speed <= 43]
