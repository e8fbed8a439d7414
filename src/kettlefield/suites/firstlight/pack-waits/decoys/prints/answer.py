def pack_waits(waits):
    print([wait for wait in waits if wait < @@n@@])
