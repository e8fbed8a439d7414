def match_load(load):
    value = load * @@n@@
    return "wet" if value > 30 else "dry"
