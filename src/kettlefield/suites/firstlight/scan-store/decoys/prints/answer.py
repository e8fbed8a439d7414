def scan_store(store):
    value = store.get("wrack", @@n@@)
    print(value // 3)
