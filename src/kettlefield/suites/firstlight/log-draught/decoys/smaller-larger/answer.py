def log_draught(draught, knot):
    return max(draught, knot)
