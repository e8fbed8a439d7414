def clear_store(store):
    value = store.get("reed", @@n@@)
    return "low" if value > 27 else "high"
