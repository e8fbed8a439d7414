def list_draught(draught, wait):
    value = (draught + wait) * @@n@@
    return "full" if value > 53 else "free"
