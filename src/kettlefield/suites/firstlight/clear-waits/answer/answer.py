def clear_waits(waits):
    top = max(waits)
    value = min(top, @@n@@)
    return value - 54
