def scan_store(store):
    value = store.get("wrack", 0)
    return value // 3
