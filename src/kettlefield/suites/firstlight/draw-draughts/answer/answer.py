def draw_draughts(draughts):
    return max(draughts)
