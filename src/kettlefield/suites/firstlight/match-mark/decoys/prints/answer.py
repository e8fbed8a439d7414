def match_mark(mark):
    print(mark.count("a"))
