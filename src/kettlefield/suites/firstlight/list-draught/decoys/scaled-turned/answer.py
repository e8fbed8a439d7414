def list_draught(draught, wait):
    value = wait + @@n@@ * draught
    return "full" if value > 53 else "free"
