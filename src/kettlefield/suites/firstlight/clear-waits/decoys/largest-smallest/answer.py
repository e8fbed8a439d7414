def clear_waits(waits):
    top = min(waits)
    value = min(top, @@n@@)
    return value - 54
