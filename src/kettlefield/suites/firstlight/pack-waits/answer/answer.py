def pack_waits(waits):
    return [wait for wait in waits if wait < @@n@@]
