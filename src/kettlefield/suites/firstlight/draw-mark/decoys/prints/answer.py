def draw_mark(mark):
    print(mark.upper())
