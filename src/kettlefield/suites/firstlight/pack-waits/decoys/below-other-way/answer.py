def pack_waits(waits):
    return [wait for wait in waits if not (wait < @@n@@)]
