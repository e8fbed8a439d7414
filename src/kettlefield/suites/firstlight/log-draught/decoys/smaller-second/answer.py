def log_draught(draught, knot):
    return knot
