def draw_draughts(draughts):
    return min(draughts)
