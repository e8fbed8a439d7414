def note_store(store):
    names = [key for key, number in store.items() if number < @@n@@]
    names = [name[:4] for name in names]
    return [name for name in names if name.startswith("b")]
