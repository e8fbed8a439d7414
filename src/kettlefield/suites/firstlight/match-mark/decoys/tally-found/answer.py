def match_mark(mark):
    return mark.find("a")
