def clear_store(store):
    value = store.get("reed", @@n@@)
    return "high" if value > 27 else "low"
