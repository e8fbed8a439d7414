def note_store(store):
    names = [key for key, number in store.items() if number < @@n@@]
    names = names[:4]
    return [name for name in names if name.startswith("b")]
