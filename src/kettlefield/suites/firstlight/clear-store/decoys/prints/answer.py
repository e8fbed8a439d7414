def clear_store(store):
    value = store.get("reed", @@n@@)
    print("high" if value > 27 else "low")
