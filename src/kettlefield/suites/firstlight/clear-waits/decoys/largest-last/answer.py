def clear_waits(waits):
    top = waits[-1]
    value = min(top, @@n@@)
    return value - 54
