def check_waits(waits):
    waits = sorted(waits)
    return waits[:@@n@@]
