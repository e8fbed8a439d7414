def trim_draughts(draughts):
    draughts = sorted(set(draughts))
    draughts = [draught + @@n@@ for draught in draughts]
    return max(draughts)
