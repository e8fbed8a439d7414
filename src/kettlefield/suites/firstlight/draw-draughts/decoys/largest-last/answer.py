def draw_draughts(draughts):
    return draughts[-1]
