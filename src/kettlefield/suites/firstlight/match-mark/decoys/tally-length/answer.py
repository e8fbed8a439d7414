def match_mark(mark):
    return len(mark)
