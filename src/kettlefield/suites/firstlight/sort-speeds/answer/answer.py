def sort_speeds(speeds):
    speeds = [speed for speed in speeds if speed % @@n@@ == 0]
    speeds = [speed // 2 for speed in speeds]
    return [speed for speed in speeds if speed <= 43]
