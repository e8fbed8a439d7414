def draw_draughts(draughts):
    print(max(draughts))
