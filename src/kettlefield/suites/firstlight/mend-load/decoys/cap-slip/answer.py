def mend_load(load):
    value = load // @@n@@
    return max(value, 46)
