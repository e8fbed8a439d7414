def match_mark(mark):
    return mark.count("a")
