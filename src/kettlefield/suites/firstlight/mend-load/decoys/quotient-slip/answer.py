def mend_load(load):
    value = load % @@n@@
    return min(value, 46)
