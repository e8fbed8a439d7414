def list_draught(draught, wait):
    value = draught + @@n@@ * wait
    return "full" if value > 53 else "free"
