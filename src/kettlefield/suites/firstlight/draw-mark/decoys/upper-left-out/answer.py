def draw_mark(mark):
    return mark
