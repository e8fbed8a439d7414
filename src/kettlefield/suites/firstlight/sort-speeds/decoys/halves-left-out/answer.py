def sort_speeds(speeds):
    speeds = [speed for speed in speeds if speed % @@n@@ == 0]
    speeds = speeds
    return [speed for speed in speeds if speed <= 43]
