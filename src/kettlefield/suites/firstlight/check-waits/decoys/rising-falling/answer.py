def check_waits(waits):
    waits = sorted(waits, reverse=True)
    return waits[-@@n@@:]
