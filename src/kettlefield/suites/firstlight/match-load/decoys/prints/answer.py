def match_load(load):
    value = load * @@n@@
    print("wet" if value > 30 else "dry")
