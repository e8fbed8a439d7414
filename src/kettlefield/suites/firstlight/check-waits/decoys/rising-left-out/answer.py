def check_waits(waits):
    waits = waits
    return waits[-@@n@@:]
