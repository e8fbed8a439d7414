def log_draught(draught, knot):
    print(min(draught, knot))
