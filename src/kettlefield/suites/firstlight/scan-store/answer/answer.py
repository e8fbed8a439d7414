def scan_store(store):
    value = store.get("wrack", @@n@@)
    return value // 3
