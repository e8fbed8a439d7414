def clear_waits(waits):
    top = max(waits)
    value = max(top, @@n@@)
    return value - 54
