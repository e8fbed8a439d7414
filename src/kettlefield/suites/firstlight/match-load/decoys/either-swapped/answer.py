def match_load(load):
    value = load * @@n@@
    return "dry" if value > 30 else "wet"
