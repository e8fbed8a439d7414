def list_draught(draught, wait):
    value = draught + @@n@@ * wait
    return "free" if value > 53 else "full"
