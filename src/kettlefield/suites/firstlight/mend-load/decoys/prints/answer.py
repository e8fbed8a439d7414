def mend_load(load):
    value = load // @@n@@
    print(min(value, 46))
