def log_draught(draught, knot):
    return min(draught, knot)
